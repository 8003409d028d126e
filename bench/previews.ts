import { App, cleanUp, demoScenario, PASSWORD, startStandIn, USER } from '../test/harness';
import { Bare, timed } from './bare';
import { median, printResults, rounded } from './measure';

/**
 * The pictures of a screen: 60 small ones of the demo's largest photographs, six asked for at a time as browsers do, beside a bare
 * socket that fetches the first octets of the same files. Each turn takes other files, so that nothing was made before. Asserts
 * nothing about time.
 */
const SCREEN = 60;
const TURNS = 5;
const AT_A_TIME = 6;
/** Octets that hold what cameras put in front of a photograph, in base64. */
const FIRST_OCTETS = 90 * 1024;

const host = await startStandIn({ scenario: demoScenario('full') });
const app = await App.start();
const account = await app.signIn({ port: host.plainPort });
await app.scanned(account);
const bare = await Bare.open({ plainPort: host.plainPort }, { user: USER, password: PASSWORD });
const where = encodeURIComponent('kind = picture and folder = Photographs');
const { files } = (await app.call('GET', `${account}/files?where=${where}&limit=${SCREEN * TURNS}`)).body;
const { messages } = await uidsOf();
await bare.command('SELECT Photographs');
const ours: number[] = [];
const plain: number[] = [];
for (let turn = 0; turn < TURNS; turn++) {
  const screen = files.slice(turn * SCREEN, (turn + 1) * SCREEN);
  // Theirs first: what the host makes for it once it has for ours too.
  plain.push((await timed(() => fetched(screen))).seconds);
  ours.push((await timed(() => shown(screen))).seconds);
}
bare.close();
printResults([
  {
    server: 'stand-in, the demo',
    'pictures of a screen': SCREEN,
    'previews, s (median)': rounded(median(ours)),
    'previews, s (slowest)': rounded(Math.max(...ours)),
    'bare FETCH of their first octets, s': rounded(median(plain)),
    'previews / bare': rounded(median(ours) / median(plain)),
  },
]);
await cleanUp();
process.exit();

async function uidsOf(): Promise<{ messages: Map<number, number> }> {
  const found = new Map<number, number>();
  const ids = [...new Set(files.map(({ message }: { message: number }) => message))];
  for (let at = 0; at < ids.length; at += 500) {
    const listed = (await app.call('GET', `${account}/messages?ids=${ids.slice(at, at + 500).join(',')}`)).body;
    for (const { id, uid } of listed.messages) found.set(id, uid);
  }
  return { messages: found };
}

async function shown(screen: { id: number }[]): Promise<void> {
  const rest = [...screen];
  const one = async () => {
    for (let file = rest.shift(); file; file = rest.shift()) {
      const answer = await fetch(`${app.origin}/api${account}/files/${file.id}/preview`, {
        headers: { cookie: app.cookie },
      });
      if (answer.status !== 200) throw new Error(`${answer.status} ${await answer.text()}`);
      await answer.arrayBuffer();
    }
  };
  await Promise.all(Array.from({ length: AT_A_TIME }, one));
}

async function fetched(screen: { message: number; part: string }[]): Promise<void> {
  for (const { message, part } of screen)
    await bare.command(`UID FETCH ${messages.get(message)} BODY.PEEK[${part}]<0.${FIRST_OCTETS}>`);
}
