import * as v from 'valibot';
import { wholeNumber } from '../../../contract/schemas';
import * as s from '../../../contract/space';
import { FILE_KINDS } from '../../../core/files/kinds';
import { domainOf } from '../../../core/mailbox/email-address';
import { BadPath, normalPath, shownPath } from '../../../core/space/path';
import type { SpaceCredential } from '../../../dav/authorization';
import { DavClient } from '../../../dav/client';
import { discoverSpaces } from '../../../dav/discover';
import { askSpace } from '../../../dav/listing';
import { SpaceProblem } from '../../../dav/problem';
import { SignInNeeded } from '../../../jobs/sign-in';
import { mailboxCredential } from '../../../jobs/space/sign-in';
import { MailProblem } from '../../../mail/problem';
import type { Account } from '../../../store/access/accounts';
import { type Queryable, transaction } from '../../../store/database';
import { tell } from '../../../store/events';
import { lastReading } from '../../../store/index/readings';
import { enqueue } from '../../../store/jobs';
import { foldersOfSpace, kindsAndYears, largestFiles } from '../../../store/space/contents';
import {
  addSpace,
  beginListing,
  type FileSpace,
  forgetSpace,
  hasOpenWork,
  MOST_SPACES,
  saveSpaceSecret,
  spaceById,
  spacesOf,
  updateSpace,
} from '../../../store/space/spaces';
import { cursorFrom, cursorText } from '../../cursor';
import type { Environment } from '../../environment';
import { conflict, invalid, Problem } from '../../problem';
import { takeAttempt } from '../../rate-limit';
import { route } from '../../route';
import { HowSmaller, SmallerPicture, shownSmaller } from '../../smaller-picture';
import { shownSpace } from '../../spaces';
import { theSpace } from './the-space';

/** Folders that are told of: the largest. */
const FOLDERS = 500;
/** Addresses that are tried for one account within five minutes: each makes this instance ask another server. */
const MOST_TRIES = 20;
const WINDOW_SECONDS = 300;

async function shown(db: Queryable, account: number, space: FileSpace) {
  return shownSpace(space, await lastReading(db, account));
}

export const listSpaces = route({
  method: 'GET',
  path: '/accounts/{account}/spaces',
  summary: 'Lists the file spaces of the account: how much lies in each, and whether it counts against the limit.',
  response: v.object({ spaces: v.array(s.Space) }),
  async handle({ environment: { database }, account }) {
    const [spaces, reading] = await Promise.all([spacesOf(database, account.id), lastReading(database, account.id)]);
    return { spaces: spaces.map((space) => shownSpace(space, reading)) };
  },
});

export const findSpaces = route({
  method: 'GET',
  path: '/accounts/{account}/spaces/found',
  summary: 'Finds where the host publishes a file space for the account. Nothing is signed in to.',
  response: v.object({ found: v.array(s.FoundSpace) }),
  async handle({ environment, account }) {
    await takeAttempt(environment.database, [tried(account)]);
    const found = await discoverSpaces(account.user, environment.outbound);
    return { found: found.map((space) => ({ ...space, within: isWithin(space.address, account) })) };
  },
});

export const addFileSpace = route({
  method: 'POST',
  path: '/accounts/{account}/spaces',
  summary: 'Adds a file space (WebDAV) to the account, once its server has let Tamsel in, and lists what lies in it.',
  body: s.NewSpace,
  status: 201,
  response: s.Space,
  async handle({ environment, account, body }) {
    const { database, vault } = environment;
    const own = ownOf(body);
    if ((await spacesOf(database, account.id)).length >= MOST_SPACES)
      throw conflict('too-many-spaces', `An account has ${MOST_SPACES} file spaces at most.`);
    await takeAttempt(database, [tried(account)]);
    const place = placeOf(body.address);
    const root = await tryOut(environment, account, place, own);
    return transaction(database, async (client) => {
      const { id } = await addSpace(client, vault, account.id, { origin: place.url.origin, root }, own);
      if (await beginListing(client, account.id, id)) await enqueue(client, account.id, 'list-space', id);
      await tell(client, account.id, 'space', { id });
      return shown(client, account.id, (await spaceById(client, account.id, id)) as FileSpace);
    });
  },
});

export const changeSpace = route({
  method: 'PATCH',
  path: '/accounts/{account}/spaces/{space}',
  summary: 'Says whether a file space counts against the limit of the mailbox, or gives another password.',
  body: s.SpaceChange,
  response: s.Space,
  async handle({ environment, account, parameters, body }) {
    const { database, vault } = environment;
    const space = await theSpace(database, account, parameters.space);
    const own = ownOf(body);
    if (own) {
      await takeAttempt(database, [tried(account)]);
      await tryOut(environment, account, { url: new URL(space.origin), path: space.root }, own);
    }
    return transaction(database, async (client) => {
      await updateSpace(client, account.id, space.id, { sharesQuota: body.counts });
      if (own) await saveSpaceSecret(client, vault, account.id, space.id, own);
      await tell(client, account.id, 'level', {});
      return shown(client, account.id, await theSpace(client, account, parameters.space));
    });
  },
});

export const forgetFileSpace = route({
  method: 'DELETE',
  path: '/accounts/{account}/spaces/{space}',
  summary: 'Forgets a file space, with its password and all that is known of it. Nothing on its server changes.',
  status: 204,
  async handle({ environment: { database }, account, parameters }) {
    await transaction(database, async (client) => {
      const space = await theSpace(client, account, parameters.space);
      if (await hasOpenWork(client, account.id, space.id))
        throw conflict(
          'wrong-state',
          'A run in this file space, or an upload to it, is not over. Let it finish, or cancel it.',
        );
      await forgetSpace(client, account.id, space.id);
      await tell(client, account.id, 'space', { id: space.id });
      await tell(client, account.id, 'level', {});
    });
  },
});

export const startListing = route({
  method: 'POST',
  path: '/accounts/{account}/spaces/{space}/listings',
  summary: 'Lists a file space again: only what changed where its server tells that.',
  status: 202,
  response: s.Space,
  async handle({ environment: { database }, account, parameters }) {
    return transaction(database, async (client) => {
      const space = await theSpace(client, account, parameters.space);
      // Somebody who asks may have had the server let them in again.
      if (space.state === 'locked') await updateSpace(client, account.id, space.id, { state: 'active' });
      if (await beginListing(client, account.id, space.id)) await enqueue(client, account.id, 'list-space', space.id);
      return shown(client, account.id, await theSpace(client, account, parameters.space));
    });
  },
});

export const getSpaceContents = route({
  method: 'GET',
  path: '/accounts/{account}/spaces/{space}/contents',
  summary: `Returns what lies in a file space: the ${FOLDERS} largest folders, each with all below it, kinds, and years.`,
  response: s.SpaceContents,
  async handle({ environment: { database }, account, parameters }) {
    const space = await theSpace(database, account, parameters.space);
    const [folders, sums] = await Promise.all([
      foldersOfSpace(database, account.id, space.id),
      kindsAndYears(database, account.id, space.id, account.settings.timeZone),
    ]);
    const largest = folders.sort((a, b) => b.total.bytes - a.total.bytes || a.id - b.id).slice(0, FOLDERS);
    return {
      folders: largest.map(({ path, shared, files, bytes, total }) => ({
        path: shownPath(path, space.root),
        ...{ shared, files, bytes, total },
      })),
      others: folders.length - largest.length,
      ...sums,
    };
  },
});

export const listSpaceFiles = route({
  method: 'GET',
  path: '/accounts/{account}/spaces/{space}/files',
  summary: 'Lists the files of a file space, the largest first, a page at a time.',
  query: v.object({
    kind: v.optional(v.picklist(FILE_KINDS)),
    limit: v.optional(wholeNumber(1, 1_000), '100'),
    after: v.optional(v.string()),
  }),
  response: v.object({ files: v.array(s.SpaceFile), next: v.optional(v.string()) }),
  async handle({ environment: { database }, account, parameters, query }) {
    const space = await theSpace(database, account, parameters.space);
    const after = cursorFrom(query.after);
    const found = await largestFiles(database, account.id, space.id, {
      limit: query.limit + 1,
      after: after && { bytes: Number(after.value), id: after.id },
      kind: query.kind,
    });
    const files = found.slice(0, query.limit);
    const last = files.at(-1);
    return {
      files: files.map((file) => ({ ...file, path: shownPath(file.path, space.root) })),
      ...(found.length > query.limit && last ? { next: cursorText({ value: `${last.bytes}`, id: last.id }) } : {}),
    };
  },
});

export const getSpaceFilePreview = route({
  method: 'GET',
  path: '/accounts/{account}/space-files/{file}/preview',
  summary:
    'Returns a picture of a picture in a file space, encoded anew, as `getFilePreview` does of one in a message.',
  query: v.object({ size: v.optional(v.picklist(['small', 'large']), 'small') }),
  formats: ['image/webp'],
  async handle({ environment, account, parameters, query, request }) {
    const id = Number(parameters.file);
    const made = await environment.previews.seeInSpace(environment, account, id, query.size, request.signal);
    return new Response(made.kind === 'picture' ? new Uint8Array(made.octets) : null, {
      headers: { 'content-type': 'image/webp', 'cache-control': 'private, no-store' },
    });
  },
});

export const getSmallerSpacePicture = route({
  method: 'GET',
  path: '/accounts/{account}/space-files/{file}/smaller',
  summary: 'Returns a picture in a file space as a run for `shrink` would make it, as `getSmallerPicture` does.',
  query: HowSmaller,
  response: SmallerPicture,
  async handle({ environment, account, parameters, query, request }) {
    const id = Number(parameters.file);
    return shownSmaller(await environment.previews.shrinkInSpace(environment, account, id, query, request.signal));
  },
});

export const getSpaceFileWords = route({
  method: 'GET',
  path: '/accounts/{account}/space-files/{file}/words',
  summary: 'Returns the first words of a document in a file space, as `getFileWords` does of one in a message.',
  formats: ['text/plain'],
  async handle({ environment, account, parameters, request }) {
    const id = Number(parameters.file);
    const made = await environment.previews.seeInSpace(environment, account, id, 'words', request.signal);
    return new Response(made.kind === 'words' ? made.text : '', {
      headers: { 'content-type': 'text/plain; charset=utf-8', 'cache-control': 'private, no-store' },
    });
  },
});

function tried({ id }: Account) {
  return { name: `file spaces of account ${id}`, most: MOST_TRIES, seconds: WINDOW_SECONDS };
}

function ownOf({
  user,
  password,
}: {
  user?: string | undefined;
  password?: string | undefined;
}): { user: string; password: string } | undefined {
  if (user === undefined && password === undefined) return undefined;
  if (user === undefined) throw invalid('Say who signs in.', [{ field: 'user', expected: 'a user name' }]);
  if (password === undefined) throw invalid('Enter the password.', [{ field: 'password', expected: 'a password' }]);
  return { user, password };
}

/** An address in its one spelling: a scheme and host, and the path of a folder. */
function placeOf(address: string): { url: URL; path: string } {
  const expected = 'an address that begins with https://';
  const wrong = () => invalid('That is not the address of a file space.', [{ field: 'address', expected }]);
  const typed = /^https?:\/\//i.test(address) ? address : `https://${address}`;
  if (!URL.canParse(typed)) throw wrong();
  const url = new URL(typed);
  if (url.username !== '' || url.password !== '' || url.search !== '' || url.hash !== '') throw wrong();
  try {
    const path = normalPath(url.pathname);
    return { url, path: path.endsWith('/') ? path : `${path}/` };
  } catch (error) {
    throw error instanceof BadPath ? wrong() : error;
  }
}

/** Signs in and asks for the folder. @returns its path as the server has it. */
async function tryOut(
  { database, vault, outbound }: Environment,
  account: Account,
  { url, path }: { url: URL; path: string },
  own: SpaceCredential | undefined,
): Promise<string> {
  let client: DavClient | undefined;
  try {
    const credential = own ?? (await mailboxCredential({ database, vault, outbound }, account));
    client = await DavClient.open(new URL(url.origin), credential, outbound);
    return (await askSpace(client, path)).path;
  } catch (error) {
    throw asProblem(error);
  } finally {
    client?.close();
  }
}

function asProblem(error: unknown): unknown {
  if (error instanceof SignInNeeded)
    return invalid('Enter the user name and the password of the file space.', [
      { field: 'user', expected: 'a user name' },
      { field: 'password', expected: 'a password' },
    ]);
  if (!(error instanceof SpaceProblem || error instanceof MailProblem)) return error;
  const field = error.kind === 'password-refused' || error.kind === 'no-mechanism' ? 'password' : 'address';
  return new Problem(422, error.kind, 'The file space can’t be used', error.message, [{ field }]);
}

/** Whether a server lies in the domain of the mail server or of the address. */
function isWithin(address: string, { host, user }: Account): boolean {
  const { hostname } = new URL(address);
  const own = domainOf(`@${hostname}`);
  return (
    hostname === host || [host, user.slice(user.lastIndexOf('@') + 1)].some((each) => domainOf(`@${each}`) === own)
  );
}
