import { setTimeout as sleep } from 'node:timers/promises';
import { parseArgs } from 'node:util';
import { fillBig } from '../test/big-folder';
import { DOVECOT_PASSWORD, DOVECOT_USER, startDovecot } from '../test/dovecot';
import { App, cleanUp } from '../test/harness';
import { median, printResults, rounded } from './measure';

/**
 * A mailbox of 1,000 messages that is read while one worker scans a large one, beside what the same takes alone. Asserts
 * nothing about time.
 */
const { values } = parseArgs({
  options: { messages: { type: 'string', default: '500000' }, turns: { type: 'string', default: '5' } },
});

/** Seconds from signing in until a scan is over. */
async function read(app: App, port: number): Promise<number> {
  app.forgetCookie();
  const started = performance.now();
  const account = await app.signIn({ port, user: DOVECOT_USER, password: DOVECOT_PASSWORD });
  const scan = await app.finished(`${account}/scans/last`, 900);
  if (scan.state !== 'done') throw new Error(JSON.stringify(scan));
  const seconds = (performance.now() - started) / 1000;
  await app.call('DELETE', account);
  return seconds;
}

async function main(): Promise<void> {
  const [large, small] = [await startDovecot(200_000), await startDovecot(20_000)];
  fillBig(large, 'Huge', Number(values.messages));
  fillBig(small, 'INBOX', 1_000);
  const app = await App.start({ env: { TAMSEL_LEASE_SECONDS: '6' } });
  const turns = Array.from({ length: Number(values.turns) });
  await read(app, small.plainPort);
  const alone: number[] = [];
  for (const _ of turns) alone.push(await read(app, small.plainPort));
  app.forgetCookie();
  const account = await app.signIn({ port: large.plainPort, user: DOVECOT_USER, password: DOVECOT_PASSWORD });
  const cookie = app.cookie;
  const scanning = async () => {
    app.cookie = cookie;
    return (await app.call('GET', `${account}/scans/last`)).body;
  };
  while ((await scanning()).messages.done === 0) await sleep(200);
  const beside: number[] = [];
  for (const _ of turns) {
    if ((await scanning()).state !== 'running') break;
    beside.push(await read(app, small.plainPort));
  }
  printResults([
    {
      'messages of the large mailbox': Number(values.messages),
      'turns beside it': beside.length,
      'a mailbox of 1,000 alone, s': rounded(median(alone)),
      'beside the large scan, s': rounded(median(beside)),
      'beside / alone': rounded(median(beside) / median(alone)),
    },
  ]);
}

try {
  await main();
} finally {
  await cleanUp();
}
process.exit();
