import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { Agent, request } from 'node:http';
import { join } from 'node:path';
import { parseArgs } from 'node:util';
import { App, cleanUp, startStandIn, tinyScenario } from '../test/harness';
import { startApache } from '../test/servers/apache';
import { longLine } from './limited-line';
import { median, printResults, rounded, timed } from './measure';

/**
 * The listing of a file space on Debian's Apache, beside the bare requests for the same folders, as many at a time, whose answers are
 * only read. Asserts nothing about time.
 */
const { values } = parseArgs({
  options: {
    files: { type: 'string', default: '200000' },
    each: { type: 'string', default: '100' },
    /** Milliseconds that octets are on their way to the server, and back. */
    latency: { type: 'string', default: '0' },
  },
});
const [FILES, EACH, LATENCY] = [values.files, values.each, values.latency].map(Number) as [number, number, number];
const AT_A_TIME = 4;
const USER = 'secretary';
const PASSWORD = 'plots';
const BODY =
  '<D:propfind xmlns:D="DAV:"><D:prop><D:resourcetype/><D:getcontentlength/><D:getcontenttype/><D:getetag/><D:getlastmodified/><D:owner/></D:prop></D:propfind>';

async function main(): Promise<void> {
  const { url: near, folder } = await startApache(USER, PASSWORD, 'basic');
  const line = LATENCY > 0 ? await longLine(Number(near.port), LATENCY) : undefined;
  const url = line ? new URL(`http://127.0.0.1:${line.port}${near.pathname}`) : near;
  const folders = Math.ceil(FILES / EACH);
  for (let at = 0; at < folders; at++) {
    mkdirSync(join(folder, `f${at}`));
    for (let file = 0; file < Math.min(EACH, FILES - at * EACH); file++)
      writeFileSync(join(folder, `f${at}`, `IMG_${file}.jpg`), 'x');
  }
  const paths = ['/space/', ...Array.from({ length: folders }, (_, at) => `/space/f${at}/`)];
  const drain = () => timed(() => bare(url, paths));
  // What the system keeps in memory from now on is no part of what is compared.
  await drain();
  const host = await startStandIn({ scenario: tinyScenario() });
  const app = await App.start();
  const account = await app.signIn({ port: host.plainPort });
  await app.scanned(account);
  const listed = async () => {
    for (;;) {
      const [space] = (await app.call('GET', `${account}/spaces`)).body.spaces;
      if (space?.listing.state === 'done') return space;
      if (space?.listing.state === 'failed') throw new Error(JSON.stringify(space.problem));
      await new Promise((resolve) => setTimeout(resolve, 100));
    }
  };
  const before = await drain();
  const first = await timed(async () => {
    await app.call('POST', `${account}/spaces`, { address: url.href, user: USER, password: PASSWORD });
    const { own } = await listed();
    if (own.files !== FILES) throw new Error(`${own.files} files were listed`);
  });
  const after = await drain();
  const [{ id }] = (await app.call('GET', `${account}/spaces`)).body.spaces;
  const again = await timed(async () => {
    await app.call('POST', `${account}/spaces/${id}/listings`);
    await listed();
  });
  const last = await drain();
  line?.close();
  const peak = Number(/VmHWM:\s+(\d+) kB/.exec(readFileSync(`/proc/${app.workerPid}/status`, 'utf8'))?.[1]) / 1024;
  const plain = median([before, after, last]);
  printResults([
    {
      files: FILES,
      'in each folder': EACH,
      'latency, ms': LATENCY,
      'bare requests, s': rounded(plain / 1000),
      'listed, s': rounded(first / 1000),
      'listed / bare': rounded(first / plain),
      'listed again, s': rounded(again / 1000),
      'listed again / bare': rounded(again / plain),
      'memory of the worker, MB': Math.round(peak),
    },
  ]);
}

/** Asks for each folder, and reads what comes. */
async function bare(url: URL, paths: readonly string[]): Promise<void> {
  const agent = new Agent({ keepAlive: true, maxSockets: AT_A_TIME });
  const left = [...paths];
  const authorization = `Basic ${Buffer.from(`${USER}:${PASSWORD}`).toString('base64')}`;
  const headers = { authorization, depth: '1', 'content-type': 'application/xml' };
  const one = (path: string) =>
    new Promise<void>((resolve, reject) => {
      const sent = request(new URL(path, url), { method: 'PROPFIND', agent, headers }, (answer) => {
        if (answer.statusCode !== 207) reject(new Error(`status ${answer.statusCode}`));
        answer.resume().on('end', resolve).on('error', reject);
      });
      sent.on('error', reject).end(BODY);
    });
  const worker = async () => {
    for (let path = left.pop(); path; path = left.pop()) await one(path);
  };
  await Promise.all(Array.from({ length: AT_A_TIME }, worker));
  agent.destroy();
}

await main().finally(cleanUp);
