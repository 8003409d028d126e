import { chmodSync, mkdirSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { Agent, request } from 'node:http';
import { join } from 'node:path';
import { parseArgs } from 'node:util';
import { filesIn, listed, startedFileRun } from '../test/file-space';
import { App, cleanUp, startStandIn, tinyScenario } from '../test/harness';
import { startApache } from '../test/servers/apache';
import { printResults, rounded, timed } from './measure';

/**
 * Scattered files of a file space on Debian's Apache: to its trash, back, to the trash again, and purged. Beside each the bare requests
 * for as many other files, as many at a time: MOVE or DELETE alone, and with a look before and behind it. Asserts nothing about time.
 */
const { values } = parseArgs({
  options: {
    files: { type: 'string', default: '10000' },
    each: { type: 'string', default: '100' },
    /** One of so many files is taken. */
    of: { type: 'string', default: '2' },
  },
});
const [FILES, EACH, OF] = [values.files, values.each, values.of].map(Number) as [number, number, number];
const AT_A_TIME = 4;
const USER = 'secretary';
const PASSWORD = 'plots';
const LOOK =
  '<D:propfind xmlns:D="DAV:"><D:prop><D:resourcetype/><D:getcontentlength/><D:getetag/><D:getlastmodified/></D:prop></D:propfind>';

const authorization = `Basic ${Buffer.from(`${USER}:${PASSWORD}`).toString('base64')}`;

async function main(): Promise<void> {
  const { url, folder } = await startApache(USER, PASSWORD, 'basic');
  // Those that Tamsel is asked about, those that lie between them, and as many for the bare requests.
  for (const name of ['ours', 'bare']) fill(join(folder, name), name === 'ours' ? FILES * OF : FILES);
  for (const name of ['moved', 'back']) makeOpen(join(folder, name));
  const host = await startStandIn({ scenario: tinyScenario() });
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  const { body: space } = await app.call('POST', `${account}/spaces`, {
    ...{ address: url.href, user: USER, password: PASSWORD },
  });
  await listed(app, account);
  const path = `${account}/spaces/${space.id}`;
  const known = [...(await filesIn(app, path))].filter(([name]) => name.startsWith('ours/')).sort();
  const ids = known.filter((_, at) => at % OF === 0).map(([, { id }]) => id);
  const lots: number[] = [];
  for (let at = 0; at < ids.length; at += 10_000) {
    const { body } = await app.call('POST', `${path}/lots`, { ids: ids.slice(at, at + 10_000) });
    lots.push(body.id);
  }
  const ran = async (body: object) => {
    const run = await app.finished(await startedFileRun(app, path, body), 3_600);
    if (run.state !== 'done' || run.done.messages !== FILES) throw new Error(JSON.stringify(run));
    return run;
  };
  let first = 0;
  const trash = await timed(async () => {
    first = (await ran({ action: 'trash', lots })).id;
  });
  const bare = names('bare');
  const away = new Map(bare.map((name) => [`/space/bare/${name}`, `/space/moved/${name.replace('/', '-')}`]));
  const moves = await timed(() => each(away, (from, to) => ask(url, 'MOVE', from, to)));
  const back = new Map(
    [...away].map(([from, to]) => [to, from.replace('/bare/', '/back/').replace(/\/(?=[^/]*$)/, '-')]),
  );
  const careful = await timed(() =>
    each(back, async (from, to) => {
      await ask(url, 'PROPFIND', from);
      await ask(url, 'MOVE', from, to);
      await ask(url, 'PROPFIND', to);
    }),
  );
  const restore = await timed(() => ran({ action: 'restore', run: first }));
  const { body: again } = await app.call('POST', `${path}/lots`, { ids: ids.slice(0, 10_000) });
  const few = await app.finished(await startedFileRun(app, path, { action: 'trash', lots: [again.id] }), 3_600);
  const purge = await timed(async () => {
    await app.finished(await startedFileRun(app, path, { action: 'purge', run: few.id }), 3_600);
  });
  const deletes = await timed(() =>
    each(new Map([...back.values()].slice(0, few.done.messages).map((one) => [one, ''])), (from) =>
      ask(url, 'DELETE', from),
    ),
  );
  const peak = Number(/VmHWM:\s+(\d+) kB/.exec(readFileSync(`/proc/${app.workerPid}/status`, 'utf8'))?.[1]) / 1024;
  printResults([
    {
      files: FILES,
      'one of': OF,
      'in each folder': EACH,
      'to the trash, s': rounded(trash / 1000),
      'files a second': Math.round(FILES / (trash / 1000)),
      'bare MOVE, s': rounded(moves / 1000),
      'bare look, MOVE, look, s': rounded(careful / 1000),
      'trash / bare MOVE': rounded(trash / moves),
      'trash / look, MOVE, look': rounded(trash / careful),
      'back, s': rounded(restore / 1000),
      [`purge of ${few.done.messages}, s`]: rounded(purge / 1000),
      'purge / bare DELETE': rounded(purge / deletes),
      'memory of the worker, MB': Math.round(peak),
    },
  ]);

  function names(of: string): string[] {
    return readdirSync(join(folder, of)).flatMap((one) =>
      readdirSync(join(folder, of, one)).map((file) => `${one}/${file}`),
    );
  }
}

/** Apache gives up root's rights, and moves files as another. */
function makeOpen(folder: string): void {
  mkdirSync(folder);
  chmodSync(folder, 0o777);
}

function fill(folder: string, files: number): void {
  makeOpen(folder);
  for (let at = 0; at * EACH < files; at++) {
    makeOpen(join(folder, `f${at}`));
    for (let file = 0; file < Math.min(EACH, files - at * EACH); file++)
      writeFileSync(join(folder, `f${at}`, `IMG_${file}.jpg`), 'x');
  }
}

/** Asks, and reads what comes. */
function ask(url: URL, method: string, path: string, to?: string): Promise<void> {
  const headers = {
    ...{ authorization, depth: method === 'PROPFIND' ? '0' : 'infinity' },
    ...(method === 'PROPFIND' ? { 'content-type': 'application/xml' } : {}),
    ...(to === undefined ? {} : { destination: new URL(to, url).href, overwrite: 'F' }),
  };
  return new Promise((resolve, reject) => {
    const sent = request(new URL(path, url), { method, agent, headers }, (answer) => {
      if ((answer.statusCode ?? 0) >= 300) reject(new Error(`${method} ${path}: status ${answer.statusCode}`));
      answer.resume().on('end', resolve).on('error', reject);
    });
    sent.on('error', reject).end(method === 'PROPFIND' ? LOOK : undefined);
  });
}

const agent = new Agent({ keepAlive: true, maxSockets: AT_A_TIME });

async function each(
  pairs: ReadonlyMap<string, string>,
  act: (from: string, to: string) => Promise<void>,
): Promise<void> {
  const left = [...pairs];
  const worker = async () => {
    for (let pair = left.pop(); pair; pair = left.pop()) await act(...pair);
  };
  await Promise.all(Array.from({ length: AT_A_TIME }, worker));
}

await main().finally(async () => {
  agent.destroy();
  await cleanUp();
});
