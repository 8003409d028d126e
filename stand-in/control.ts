import { createHash } from 'node:crypto';
import { createServer, type IncomingMessage, type Server } from 'node:http';
import { type Faults, noFaults } from './faults';
import type { StandIn } from './host';
import type { PassingTime } from './passing-time';
import { noSpaceFaults, type SpaceFaults } from './webdav/faults';
import type { FileSpaceServer } from './webdav/server';

/**
 * Lets faults be switched by hand and the mailbox be looked at: `GET /faults`, `POST /faults` with some of them as JSON
 * (an empty object switches all off), the same at `/files/faults` for the file space, `GET /state`, `POST /drop`, `POST /validity?folder=INBOX`, `POST /clock?days=30`, which
 * moves time on.
 */
export function controlServer(host: StandIn, files?: FileSpaceServer, time?: PassingTime): Server {
  return createServer((request, response) => {
    answer(host, request, files, time)
      .then((body) => {
        response.writeHead(200, { 'content-type': 'application/json' }).end(`${JSON.stringify(body)}\n`);
      })
      .catch((error: unknown) => {
        response
          .writeHead(400, { 'content-type': 'application/json' })
          .end(`${JSON.stringify({ error: String(error) })}\n`);
      });
  });
}

async function answer(
  host: StandIn,
  request: IncomingMessage,
  files?: FileSpaceServer,
  time?: PassingTime,
): Promise<unknown> {
  const url = new URL(request.url ?? '/', 'http://localhost');
  const what = `${request.method} ${url.pathname}`;
  switch (what) {
    case 'GET /faults':
      return host.faults;
    case 'POST /faults':
      host.faults = { ...noFaults(), ...((await bodyOf(request)) as Partial<Faults>) };
      return host.faults;
    case 'POST /files/faults':
      if (!files) break;
      files.faults = { ...noSpaceFaults(), ...((await bodyOf(request)) as Partial<SpaceFaults>) };
      return files.faults;
    case 'GET /state':
      return stateOf(host);
    case 'POST /drop':
      host.dropAll();
      return { dropped: true };
    case 'POST /clock':
      if (!time) break;
      return time.moveOn(Number(url.searchParams.get('days') ?? '1'));
    case 'POST /validity':
      host.mailbox.changeUidValidity(url.searchParams.get('folder') ?? 'INBOX');
      return stateOf(host);
  }
  throw new Error(`nothing answers ${what}`);
}

async function bodyOf(request: IncomingMessage): Promise<unknown> {
  let text = '';
  for await (const chunk of request) text += chunk;
  return JSON.parse(text || '{}');
}

/** Every folder with its count, octets, and a sum over which messages it holds with which flags, UIDs left out. */
export function stateOf(host: StandIn): Record<string, { messages: number; bytes: number; digest: string }> {
  const state: Record<string, { messages: number; bytes: number; digest: string }> = {};
  for (const [name, folder] of host.mailbox.folders) {
    const lines = folder.messages
      .map(({ ref, flags, received }) => `${ref} ${received} ${[...flags].sort().join(',')}`)
      .sort();
    const digest = createHash('sha256').update(lines.join('\n')).digest('hex').slice(0, 16);
    state[name] = { messages: folder.messages.length, bytes: folder.bytes, digest };
  }
  return state;
}
