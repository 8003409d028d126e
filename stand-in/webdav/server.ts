import { createServer as createPlainServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import { createServer } from 'node:https';
import type { AddressInfo, Socket } from 'node:net';
import { setTimeout as sleep } from 'node:timers/promises';
import { collectionOf, memberPath, normalPath } from '../../src/core/space/path';
import { noSpaceFaults, type SpaceFaults, strikesAt } from './faults';
import { type FileTree, ROOT, type SpaceFile } from './tree';

export interface FileSpaceOptions {
  tree: FileTree;
  user: string;
  password: string;
  /** Whose tokens are taken. */
  authorization?: { tokenInfo(token: string): Promise<{ user: string } | undefined> } | undefined;
  /** What is in use of what the files share with mail, and the limit, in octets. */
  room: { used(): number; limit: number };
  /** PEM; without it the server speaks in plain. */
  identity?: { key: string; cert: string } | undefined;
  /** 0 takes a free one. */
  port?: number;
}

const PRINCIPAL = '/principals/';
const SYNC = 'urn:saltmarsh:sync:';
/** Octets of a request's body. */
const MOST_BODY = 2 ** 30;
const MULTISTATUS = '<?xml version="1.0" encoding="utf-8"?>\n<D:multistatus xmlns:D="DAV:">\n';
const BOMB = '<!DOCTYPE bomb [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;&a;&a;">]>\n';

/** The file space of the stand-in host: a small WebDAV server (RFC 4918, class 1) on loopback that shares the mailbox's quota. */
export class FileSpaceServer {
  faults: SpaceFaults = noSpaceFaults();
  /** Requests so far, by method. */
  readonly asked = new Map<string, number>();
  private readonly sockets = new Set<Socket>();

  private constructor(
    private readonly options: FileSpaceOptions,
    private readonly server: Server,
  ) {}

  static async start(options: FileSpaceOptions): Promise<FileSpaceServer> {
    const server = options.identity ? createServer(options.identity) : createPlainServer();
    const space = new FileSpaceServer(options, server);
    server.on('request', (request: IncomingMessage, response: ServerResponse) => void space.answer(request, response));
    server.on(options.identity ? 'secureConnection' : 'connection', (socket: Socket) => {
      space.sockets.add(socket);
      socket.on('error', () => undefined);
      socket.on('close', () => space.sockets.delete(socket));
    });
    await new Promise<void>((resolve, reject) => {
      server.once('error', reject);
      server.listen(options.port ?? 0, '127.0.0.1', resolve);
    });
    return space;
  }

  get port(): number {
    return (this.server.address() as AddressInfo).port;
  }

  get url(): URL {
    return new URL(`${this.options.identity ? 'https' : 'http'}://localhost:${this.port}${ROOT}`);
  }

  get tree(): FileTree {
    return this.options.tree;
  }

  async stop(): Promise<void> {
    for (const socket of this.sockets) socket.destroy();
    await new Promise((resolve) => this.server.close(resolve));
    this.tree.close();
  }

  private async answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const method = request.method ?? '';
    this.asked.set(method, (this.asked.get(method) ?? 0) + 1);
    response.on('error', () => undefined);
    try {
      if (this.faults.latencyMs > 0) await sleep(this.faults.latencyMs);
      const { faults } = this;
      const { cutAfter } = faults;
      if (cutAfter && cutAfter.times > 0) {
        cutAfter.times--;
        cutOff(response, cutAfter.octets);
      }
      if (faults.refuse && strikesAt(faults.refuse, method)) return await end(request, response, faults.refuse.status);
      if (!(await this.letsIn(request))) {
        response.setHeader('www-authenticate', 'Basic realm="files", charset="UTF-8"');
        if (this.options.authorization) response.appendHeader('www-authenticate', 'Bearer realm="files"');
        return await end(request, response, 401);
      }
      if (strikesAt(faults.dropAnswerTo, method)) response.writeHead = () => response.destroy() as never;
      await this.carryOut(method, request, response);
    } catch (error) {
      if (!response.headersSent && !response.destroyed) response.writeHead(400).end(`${error}\n`);
      else response.destroy();
    }
  }

  private async letsIn({ headers }: IncomingMessage): Promise<boolean> {
    const { user, password, authorization } = this.options;
    const [, scheme = '', shown = ''] = /^(\S+) (.*)$/.exec(headers.authorization ?? '') ?? [];
    if (scheme.toLowerCase() === 'bearer') return (await authorization?.tokenInfo(shown))?.user === user;
    return Buffer.from(shown, 'base64').toString('utf8') === `${user}:${password}`;
  }

  private async carryOut(method: string, request: IncomingMessage, response: ServerResponse): Promise<void> {
    const path = this.spelled(normalPath(request.url ?? '/'));
    const { tree } = this;
    const isThere = tree.files.has(path) || tree.folders.has(path);
    if (method === 'OPTIONS') {
      response.setHeader('dav', '1');
      response.setHeader('allow', 'OPTIONS, PROPFIND, REPORT, GET, HEAD, PUT, DELETE, MKCOL, MOVE');
      return end(request, response, 200);
    }
    if (!path.startsWith(ROOT)) return end(request, response, 404);
    if (['PUT', 'DELETE', 'MKCOL', 'MOVE'].includes(method)) return this.change(method, path, request, response);
    if (!isThere && !this.faults.deep) return end(request, response, 404);
    if (this.faults.hidden && !path.endsWith('/') && path.includes(this.faults.hidden))
      return end(request, response, 403);
    if (method === 'PROPFIND') return this.tell(path, request, response);
    if (method === 'REPORT') return this.tellChanges(request, response);
    if (method === 'GET' || method === 'HEAD') return this.give(path, request, response);
    return end(request, response, 405);
  }

  /** A folder may be asked for without its slash. */
  private spelled(path: string): string {
    return this.tree.folders.has(`${path}/`) ? `${path}/` : path;
  }

  private async tell(path: string, request: IncomingMessage, response: ServerResponse): Promise<void> {
    const depth = request.headers.depth ?? 'infinity';
    await bodyOf(request);
    // RFC 4918 §9.1.1.
    if (depth !== '0' && depth !== '1') return end(request, response, 403);
    response.writeHead(207, { 'content-type': 'application/xml; charset=utf-8' });
    response.write(`${this.faults.bomb ? MULTISTATUS.replace('\n', `\n${BOMB}`) : MULTISTATUS}${this.told(path)}`);
    if (depth === '1') {
      for (const member of this.tree.membersOf(path)) if (!(await write(response, this.told(member)))) return;
      if (this.faults.deep) response.write(this.toldFolder(memberPath(path, 'deeper', true)));
      for (let at = 0; this.faults.endless; at++) {
        const file = { size: 1, type: 'text/plain', modified: 0, version: 1, octets: () => Buffer.alloc(1) };
        if (!(await write(response, this.toldFile(`${path}endless-${at}.txt`, file)))) return;
      }
    }
    response.end('</D:multistatus>\n');
  }

  private async tellChanges(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const body = (await bodyOf(request)).toString('utf8');
    const [, since = ''] = /<D:sync-token>([^<]*)<\/D:sync-token>/.exec(body) ?? [];
    const changed = since.startsWith(SYNC) ? this.tree.changedSince(Number(since.slice(SYNC.length))) : undefined;
    // RFC 6578 §3.2: a state that is not known.
    if (this.faults.noSync || !changed) return end(request, response, 403);
    response.writeHead(207, { 'content-type': 'application/xml; charset=utf-8' });
    response.write(MULTISTATUS);
    for (const path of changed) {
      const isThere = this.tree.files.has(path) || this.tree.folders.has(path);
      if (this.faults.terse && !isThere && changed.includes(collectionOf(path) as string)) continue;
      const gone = `<D:response><D:href>${path}</D:href><D:status>HTTP/1.1 404 Not Found</D:status></D:response>\n`;
      response.write(isThere ? this.told(path) : gone);
    }
    response.end(`<D:sync-token>${SYNC}${this.tree.version}</D:sync-token></D:multistatus>\n`);
  }

  private told(path: string): string {
    const file = this.tree.files.get(path);
    return file ? this.toldFile(path, file) : this.toldFolder(path);
  }

  private toldFile(path: string, file: SpaceFile): string {
    return response(
      path,
      `<D:resourcetype/><D:getcontentlength>${file.size}</D:getcontentlength>` +
        `<D:getcontenttype>${file.type}</D:getcontenttype><D:getetag>${this.etagOf(file)}</D:getetag>` +
        `<D:getlastmodified>${new Date(file.modified * 1000).toUTCString()}</D:getlastmodified>${this.owner(path)}`,
    );
  }

  private toldFolder(path: string): string {
    const { noQuota, noSync } = this.faults;
    const room = `<D:quota-used-bytes>${this.options.room.used()}</D:quota-used-bytes><D:quota-available-bytes>${this.available()}</D:quota-available-bytes>`;
    const sync = `<D:sync-token>${SYNC}${this.tree.version}</D:sync-token><D:supported-report-set><D:supported-report><D:report><D:sync-collection/></D:report></D:supported-report></D:supported-report-set>`;
    return response(
      path,
      `<D:resourcetype><D:collection/></D:resourcetype>${noQuota ? '' : room}${noSync ? '' : sync}${this.owner(path)}`,
    );
  }

  private available(): number {
    const { room } = this.options;
    return Math.max(0, room.limit - room.used());
  }

  private owner(path: string): string {
    const { user } = this.options;
    const href = (name: string) => memberPath(PRINCIPAL, name, true);
    return (
      `<D:owner><D:href>${href(this.tree.ownerOf(path) ?? user)}</D:href></D:owner>` +
      `<D:current-user-principal><D:href>${href(user)}</D:href></D:current-user-principal>`
    );
  }

  private etagOf({ version, size, modified }: SpaceFile): string {
    return this.faults.sameEtag ? '"1"' : `"${version}-${size}-${modified}"`;
  }

  private give(path: string, request: IncomingMessage, response: ServerResponse): void {
    const file = this.tree.files.get(path);
    if (!file) {
      response.writeHead(405).end();
      return;
    }
    const isMatch = request.headers['if-match'];
    if (isMatch !== undefined && isMatch !== this.etagOf(file)) {
      response.writeHead(412).end();
      return;
    }
    const octets = request.method === 'HEAD' ? Buffer.alloc(0) : file.octets();
    const [, from, to] = /^bytes=(\d+)-(\d*)$/.exec(request.headers.range ?? '') ?? [];
    const first = Number(from ?? 0);
    const part = from === undefined ? octets : octets.subarray(first, to ? Number(to) + 1 : undefined);
    response.writeHead(from === undefined ? 200 : 206, {
      'content-type': file.type,
      'content-length': request.method === 'HEAD' ? file.size : part.length,
      etag: this.etagOf(file),
      'accept-ranges': 'bytes',
      ...(from === undefined ? {} : { 'content-range': `bytes ${first}-${first + part.length - 1}/${file.size}` }),
    });
    response.end(part);
  }

  private async change(
    method: string,
    path: string,
    request: IncomingMessage,
    response: ServerResponse,
  ): Promise<void> {
    const { tree, faults } = this;
    const body = await bodyOf(request);
    const { headers } = request;
    const finish = (status: number) => void response.writeHead(status).end();
    const file = tree.files.get(path);
    const isThere = file !== undefined || tree.folders.has(path);
    const to = headers.destination === undefined ? undefined : normalPath(String(headers.destination));
    if ([path, to].some((each) => each !== undefined && faults.locked.includes(each))) return finish(423);
    const wanted = headers['if-match'];
    if (wanted !== undefined && (!file || wanted !== this.etagOf(file))) return finish(412);
    if (headers['if-none-match'] === '*' && isThere) return finish(412);
    if (method === 'MKCOL' || method === 'PUT') {
      if (!tree.folders.has(collectionOf(path) as string)) return finish(409);
      if (method === 'MKCOL') {
        if (isThere) return finish(405);
        tree.makeFolder(path.endsWith('/') ? path : `${path}/`);
        return finish(201);
      }
      if (path.endsWith('/')) return finish(405);
      if (faults.full || body.length - (file?.size ?? 0) > this.available()) return finish(507);
      const { keepPart } = faults;
      const isCut = keepPart !== null && keepPart.times-- > 0;
      const altered = faults.alters ? Buffer.from(body.map((octet) => octet ^ 1)) : body;
      const kept = isCut ? body.subarray(0, keepPart.octets) : altered;
      tree.put(path, Buffer.from(kept), headers['content-type'] ?? 'application/octet-stream');
      if (isCut) return void response.destroy();
      return finish(isThere ? 204 : 201);
    }
    if (!isThere) return finish(404);
    if (path === ROOT) return finish(403);
    if (method === 'DELETE') {
      tree.remove(path);
      return finish(204);
    }
    if (to === undefined || !to.startsWith(ROOT)) return finish(400);
    const goal = path.endsWith('/') && !to.endsWith('/') ? `${to}/` : to;
    if (!tree.folders.has(collectionOf(goal) as string)) return finish(409);
    const isTaken = tree.files.has(goal) || tree.folders.has(goal) || tree.folders.has(`${goal}/`);
    if (isTaken && String(headers.overwrite ?? 'T').toUpperCase() === 'F') return finish(412);
    if (isTaken) tree.remove(goal);
    if (file && faults.slowMoveMs > 0) {
      tree.copy(path, goal);
      await sleep(faults.slowMoveMs);
      if (tree.files.get(path) === file) tree.remove(path);
    } else tree.move(path, goal);
    return finish(isTaken ? 204 : 201);
  }
}

function response(path: string, properties: string): string {
  return `<D:response><D:href>${path}</D:href><D:propstat><D:prop>${properties}</D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>\n`;
}

async function end(request: IncomingMessage, response: ServerResponse, status: number): Promise<void> {
  await bodyOf(request);
  response.writeHead(status).end();
}

async function bodyOf(request: IncomingMessage): Promise<Buffer> {
  const pieces: Buffer[] = [];
  let octets = 0;
  for await (const piece of request as AsyncIterable<Buffer>) {
    octets += piece.length;
    if (octets > MOST_BODY) throw new Error('a body that is too long');
    pieces.push(piece);
  }
  return Buffer.concat(pieces);
}

/** Writes, and waits where the client does not follow. @returns false where it has gone. */
async function write(response: ServerResponse, text: string): Promise<boolean> {
  if (response.destroyed) return false;
  if (!response.write(text))
    await new Promise<void>((resolve) => {
      const done = () => {
        response.off('drain', done).off('close', done);
        resolve();
      };
      response.once('drain', done).once('close', done);
    });
  return !response.destroyed;
}

/** Has a connection close when so many octets of an answer were sent. */
function cutOff(response: ServerResponse, octets: number): void {
  let left = octets;
  const write = response.write.bind(response) as (piece: Buffer) => boolean;
  const cut = (piece: unknown) => {
    const whole = typeof piece === 'string' ? Buffer.from(piece) : ((piece as Buffer | undefined) ?? Buffer.alloc(0));
    const part = whole.subarray(0, left);
    left -= part.length;
    if (part.length > 0) write(part);
    if (part.length < whole.length) response.socket?.end(() => response.destroy());
    return part.length === whole.length;
  };
  response.write = cut as typeof response.write;
  response.end = ((piece?: unknown) => {
    cut(piece);
    response.socket?.end(() => response.destroy());
    return response;
  }) as typeof response.end;
}
