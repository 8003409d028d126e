import { asCollection, BadPath, collectionOf, normalPath } from '../core/space/path';
import { type DavClient, drained } from './client';
import { type Part, readMultistatus, type Told, unreadable } from './multistatus';
import { SpaceProblem } from './problem';

/** A file or a collection of a file space. */
export interface Resource {
  /** As `core/space/path.ts` spells it; of a collection with a slash at its end. */
  path: string;
  isCollection: boolean;
  /** Octets; of a collection 0. */
  bytes: number;
  type: string | undefined;
  /** As the server wrote it. */
  etag: string | undefined;
  modified: Date | undefined;
  /** Whose it is; undefined where the server does not say. */
  owner: string | undefined;
}

/** Whether two looks at a file show the same state of it: by the weak comparison of its tags (RFC 9110 §8.8.3.2), and not by them alone. */
export function isSame(
  one: Pick<Resource, 'bytes' | 'etag' | 'modified'>,
  other: Pick<Resource, 'bytes' | 'etag' | 'modified'>,
): boolean {
  return (
    one.bytes === other.bytes &&
    one.etag?.replace(/^W\//, '') === other.etag?.replace(/^W\//, '') &&
    one.modified?.getTime() === other.modified?.getTime()
  );
}

/** What the server says of a collection itself. */
export interface Space {
  path: string;
  /** Octets; undefined where the server keeps no account (RFC 4331). */
  quotaUsed: number | undefined;
  quotaAvailable: number | undefined;
  owner: string | undefined;
  /** Who has signed in, as the server names them (RFC 5397). */
  principal: string | undefined;
  /** The state from which on changes can be asked for (RFC 6578); undefined where they can't be. */
  syncToken: string | undefined;
}

/** Octets of one answer: some two million files in one folder. */
const MOST_OCTETS = 2 ** 30;
/** How long one answer may take, in milliseconds. */
const MOST_MS = 30 * 60_000;
/** Of an answer about one resource. */
const MOST_OF_ONE = 2 ** 20;

const XML = { 'content-type': 'application/xml; charset=utf-8' };
const OF_A_MEMBER = ['resourcetype', 'getcontentlength', 'getcontenttype', 'getetag', 'getlastmodified'];
const MEMBERS = propfind(...OF_A_MEMBER);
const MEMBERS_AND_OWNERS = propfind(...OF_A_MEMBER, 'owner');
const ITSELF = propfind(
  ...['resourcetype', 'quota-used-bytes', 'quota-available-bytes', 'owner', 'current-user-principal'],
  ...['supported-report-set', 'sync-token'],
);

function propfind(...properties: string[]): string {
  return `<?xml version="1.0" encoding="utf-8"?>\n<D:propfind xmlns:D="DAV:">${asked(properties)}</D:propfind>`;
}

function asked(properties: readonly string[]): string {
  return `<D:prop>${properties.map((name) => `<D:${name}/>`).join('')}</D:prop>`;
}

/**
 * Asks what a collection is, and how full what it lies in.
 *
 * @throws SpaceProblem `not-dav` where it is no collection of a WebDAV server.
 */
export async function askSpace(client: DavClient, path: string): Promise<Space> {
  let found: Told | undefined;
  for await (const part of answered(client, path, '0', ITSELF, MOST_OF_ONE)) {
    if (found) throw unreadable('tells more than was asked for');
    found = part;
  }
  if (!found?.isCollection || found.status !== undefined)
    throw new SpaceProblem('not-dav', 'At this address there is no folder of a file space.');
  return {
    path: asCollection(pathIn(found)),
    quotaUsed: found.quotaUsed,
    quotaAvailable: found.quotaAvailable,
    owner: found.owner,
    principal: found.principal,
    syncToken: found.reports.includes('sync-collection') ? found.syncToken : undefined,
  };
}

/**
 * What the server says of a file, or of a folder.
 *
 * @throws SpaceProblem `gone` where it is not there.
 */
export async function askResource(client: DavClient, path: string): Promise<Resource> {
  let found: Resource | undefined;
  for await (const told of answered(client, path, '0', MEMBERS, MOST_OF_ONE)) {
    const named = pathIn(told);
    // A folder may be asked for without its slash, and told of with it (RFC 4918 §5.2).
    const isIt = told.isCollection || path.endsWith('/') ? asCollection(named) === asCollection(path) : named === path;
    if (found || !isIt) throw unreadable('tells of something else than was asked for');
    if (told.status !== undefined) throw refusal(told.status);
    found = resourceOf(told, told.isCollection ? asCollection(path) : path);
  }
  if (!found) throw unreadable('tells nothing of what was asked for');
  return found;
}

/**
 * The members of a collection, as they come. Each is one of its own, or the answer is an error: neither another server nor another
 * folder can be listed by it. What was cut off throws after what came before.
 *
 * @param withOwners whether it is asked whose each is: what a server does not know makes its answer longer.
 */
export async function* listCollection(client: DavClient, path: string, withOwners = true): AsyncGenerator<Resource> {
  let hasItself = false;
  const body = withOwners ? MEMBERS_AND_OWNERS : MEMBERS;
  for await (const told of answered(client, path, '1', body, MOST_OCTETS)) {
    const named = pathIn(told);
    if (asCollection(named) === path) {
      if (!told.isCollection || told.status !== undefined) throw unreadable('says that the folder is none');
      hasItself = true;
      continue;
    }
    const member = told.isCollection ? asCollection(named) : named;
    if (collectionOf(member) !== path) throw unreadable('tells of something outside the folder');
    // Something that the server can't say anything of (RFC 4918 §9.1): it is there, or it went just now.
    if (told.status === 404) continue;
    if (told.status !== undefined) throw unreadable(`holds something with the status ${told.status}`);
    yield resourceOf(told, member);
  }
  // RFC 4918 §9.1: what is asked about is among what is told.
  if (!hasItself) throw unreadable('does not tell of the folder itself');
}

function resourceOf(told: Told, path: string): Resource {
  const { isCollection, length, type, etag, modified, owner } = told;
  if (!isCollection && path.endsWith('/')) throw unreadable('calls a folder what is none');
  if (!isCollection && length === undefined) throw unreadable('holds a file without a size');
  return { path, isCollection, bytes: isCollection ? 0 : (length as number), type, etag, modified, owner };
}

/** What changed in a file space: what is there now, what is gone, and the state up to which that was told. */
export type Change =
  | { resource: Resource }
  | { gone: string }
  | {
      syncToken: string;
      /** Whether there is more to tell since that state. */
      hasMore: boolean;
    };

/**
 * What changed below a collection since a state of it (RFC 6578 §3). A server may tell a part at a time, and the
 * rest since the state up to which it told. What was cut off throws before a token came.
 *
 * @throws SpaceProblem `forbidden` or another refusal where the server knows that state no more: everything has to be listed then.
 */
export async function* changesSince(client: DavClient, root: string, syncToken: string): AsyncGenerator<Change> {
  const body =
    '<?xml version="1.0" encoding="utf-8"?>\n<D:sync-collection xmlns:D="DAV:">' +
    `<D:sync-token>${escaped(syncToken)}</D:sync-token><D:sync-level>infinite</D:sync-level>${asked([...OF_A_MEMBER, 'owner'])}</D:sync-collection>`;
  let token: string | undefined;
  let hasMore = false;
  for await (const part of multistatus(client, 'REPORT', root, '0', body, MOST_OCTETS)) {
    if ('syncToken' in part) {
      token = part.syncToken;
      continue;
    }
    const { told } = part;
    const named = pathIn(told);
    // §3.6: that not all was told is said of the collection itself.
    if (asCollection(named) === root) {
      hasMore ||= told.status === 507;
      continue;
    }
    if (!named.startsWith(root)) throw unreadable('tells of something outside the file space');
    if (told.status === 404) yield { gone: named };
    else if (told.status !== undefined) throw unreadable(`holds something with the status ${told.status}`);
    else yield { resource: resourceOf(told, told.isCollection ? asCollection(named) : named) };
  }
  if (!token) throw unreadable('does not say up to which state it tells');
  yield { syncToken: token, hasMore };
}

function escaped(text: string): string {
  return text.replace(/[<>&"]/g, (sign) => `&#${sign.charCodeAt(0)};`);
}

async function* answered(
  client: DavClient,
  path: string,
  depth: '0' | '1',
  body: string,
  mostOctets: number,
): AsyncGenerator<Told> {
  for await (const part of multistatus(client, 'PROPFIND', path, depth, body, mostOctets))
    if ('told' in part) yield part.told;
}

async function* multistatus(
  client: DavClient,
  method: 'PROPFIND' | 'REPORT',
  path: string,
  depth: '0' | '1',
  body: string,
  mostOctets: number,
): AsyncGenerator<Part> {
  const until = Date.now() + MOST_MS;
  const answer = await client.ask(method, path, { headers: { ...XML, depth }, body });
  try {
    if (answer.status !== 207) {
      await drained(answer.body);
      throw refusal(answer.status, answer.headers['retry-after']);
    }
    for await (const part of readMultistatus(whole(answer.body, until), mostOctets)) yield part;
  } finally {
    answer.body.destroy();
  }
}

/** The octets of a body; one that was cut off, or goes on without end, throws. */
async function* whole(body: AsyncIterable<Uint8Array>, until: number): AsyncGenerator<Uint8Array> {
  try {
    for await (const piece of body) {
      if (Date.now() > until) throw new SpaceProblem('timed-out', 'The server does not come to the end of an answer.');
      yield piece;
    }
  } catch (cause) {
    if (cause instanceof SpaceProblem) throw cause;
    throw new SpaceProblem('connection-lost', 'The connection was lost in the middle of an answer.', { cause });
  }
}

function pathIn({ href }: Told): string {
  try {
    return normalPath(href);
  } catch (error) {
    if (error instanceof BadPath) throw unreadable('holds a path that none can be', error);
    throw error;
  }
}

/** What a status of failure means, for a person. */
export function refusal(status: number, retryAfter?: string | undefined): SpaceProblem {
  if (status === 403) return new SpaceProblem('forbidden', 'The server does not allow it.');
  if (status === 404 || status === 410) return new SpaceProblem('gone', 'It is not there any more.');
  if (status === 405 || status === 501 || (status >= 300 && status < 400) || (status >= 200 && status < 300))
    return new SpaceProblem('not-dav', `What answers there is no file space (status ${status}).`);
  if (status === 412) return new SpaceProblem('changed', 'It is not as it was.');
  if (status === 423) return new SpaceProblem('locked', 'Somebody has it open, and the server has locked it.');
  if (status === 507) return new SpaceProblem('no-room', 'The file space is full.');
  if (status === 429 || status === 503)
    return new SpaceProblem(
      'throttled',
      `The server asks to wait${retryAfter ? ` (${retryAfter.slice(0, 40)})` : ''}.`,
    );
  // What stands before it does not reach it (RFC 9110 §15.6).
  if (status === 502 || status === 504)
    return new SpaceProblem('timed-out', 'The server behind this address does not answer.');
  return new SpaceProblem('command-refused', `The server refused it with the status ${status}.`);
}
