import * as v from 'valibot';
import * as s from '../../../contract/schemas';
import type { Amount } from '../../../core/level/level';
import { namesConflicts } from '../../../core/repeats/folders';
import { occasionsOf, type PictureRows, type PictureSeries } from '../../../core/repeats/picture-series';
import { type Reading as Read, readingOf } from '../../../core/repeats/reading';
import { READINGS } from '../../../core/repeats/readings';
import type { Ranges } from '../../../core/sets/ranges';
import { rangesOf } from '../../../core/sets/ranges';
import type { Account } from '../../../store/access/accounts';
import { type Database, theRow, transaction } from '../../../store/database';
import { tell } from '../../../store/events';
import { unreadThreads } from '../../../store/index/echoes';
import { pictureCandidates } from '../../../store/index/pictures';
import { repeatedFileCandidates } from '../../../store/index/repeated-files';
import { twinCandidates } from '../../../store/index/twins';
import { enqueue } from '../../../store/jobs';
import { type DoubledGroup, doubledOf } from '../../../store/plan/doubled';
import { echoesOf } from '../../../store/plan/echoes';
import { picturesOf } from '../../../store/plan/pictures';
import { brokenPromises, countOfBroken, keepPromises } from '../../../store/plan/promises';
import { openProof, type Proof, proofOf, proofsOf } from '../../../store/plan/proof';
import { repeatedFilesOf } from '../../../store/plan/repeated-files';
import { spacePicturesOf } from '../../../store/plan/space-pictures';
import { type Twins, twinsOf } from '../../../store/plan/twins';
import { type ToRead, unreadDoubled } from '../../../store/space/doubled';
import { spacePictureCandidates } from '../../../store/space/pictures';
import { type FileAmount, spacesOf } from '../../../store/space/spaces';
import { route } from '../../route';

/** Octets that are read at once, where nothing is said. */
const BUDGET = 2 ** 30;

/** What the index alone tells, by account: it is asked for often, and only a scan or the reading changes it. */
const known = new Map<number, { version: number; read: number; found: Awaited<ReturnType<typeof byIndexAlone>> }>();
const MOST_KNOWN = 32;

async function candidatesOf(database: Database, account: Account) {
  const { version, read, isScanning } = await theRow<{ version: number; read: number; isScanning: boolean }>(
    database,
    `select index_version as version,
       (select count(*) from twin_digest where account = $1)::int + (select count(*) from file_digest where account = $1)::int
         + (select count(*) from picture_look where account = $1)::int + (select count(*) from thread_read where account = $1)::int
         + (select count(*) + count(*) filter (where read) + count(*) filter (where looked) from space_file where account = $1 and gone_at is null)::int + next_file::int as read,
       exists (select from scan where account = $1 and state in ('queued', 'running')) as "isScanning"
     from account where id = $1`,
    [account.id],
  );
  const before = known.get(account.id);
  // A scan changes the index all the time: until it is done what was found before it does.
  if (before?.read === read && (before.version === version || isScanning)) return before.found;
  const found = await byIndexAlone(database, account);
  known.delete(account.id);
  known.set(account.id, { version, read, found });
  for (const [oldest] of known) if (known.size > MOST_KNOWN) known.delete(oldest);
  return found;
}

async function byIndexAlone(database: Database, account: Account) {
  const everything = Number.POSITIVE_INFINITY;
  const files = await repeatedFileCandidates(database, account);
  const unlooked = (found: PictureRows & { size: Float64Array; looked: Int32Array }) =>
    fileAmount(
      readingOf(occasionsOf(found), { message: byRow(found.file), size: found.size, twin: found.looked }, everything),
    );
  const byRow = ({ length }: Float64Array) => Int32Array.from({ length }, (_, row) => row);
  const fileAmount = ({ messages, bytes }: Read) => ({ files: messages.length, bytes });
  return {
    candidates: summaryOf(await twinCandidates(database, account)),
    unread: {
      files: fileAmount(
        readingOf(files.groups, { message: byRow(files.file), size: files.size, twin: files.digest }, everything),
      ),
      pictures: sumOf(
        unlooked(await pictureCandidates(database, account)),
        unlooked(await spacePictureCandidates(database, account.id)),
      ),
      threads: await unreadThreads(database, account),
      spaces: amountToRead(await unreadDoubled(database, account)),
    },
  };
}

function amountToRead({ mail, space }: { mail: readonly ToRead[]; space: readonly ToRead[] }) {
  return fileAmountOf([...mail, ...space]);
}

export function fileAmountOf(files: readonly { bytes: number }[]): FileAmount {
  return { files: files.length, bytes: files.reduce((sum, { bytes }) => sum + bytes, 0) };
}

function summaryOf({
  groups: { rows: members, starts },
  message,
  size,
  twin,
}: Awaited<ReturnType<typeof twinCandidates>>) {
  const summary = { groups: 0, messages: 0, bytes: 0, different: 0 };
  for (let group = 0; group + 1 < starts.length; group++) {
    const found = members.subarray(starts[group], starts[group + 1]);
    summary.groups++;
    summary.messages += found.length;
    summary.bytes += found.reduce((sum, row) => sum + (size[row] as number), 0);
    const messages = new Set(Array.from(found, (row) => message[row]));
    const kinds = new Set(Array.from(found, (row) => twin[row]));
    if (messages.size > 1 && !kinds.has(0) && (kinds.size > 1 || kinds.has(-1))) summary.different++;
  }
  const unread = readingOf({ rows: members, starts }, { message, size, twin }, Number.POSITIVE_INFINITY);
  return { ...summary, unread: { messages: unread.messages.length, bytes: unread.bytes } };
}

export const getRepeats = route({
  method: 'GET',
  path: '/accounts/{account}/repeats',
  summary:
    'Tells what exists more than once: what may by the index alone, what was proven by reading it, which folders repeat others, and how far the reading is. What can go as a copy of a message is not counted again among files, pictures and quoted messages.',
  response: s.Repeats,
  async handle({ environment: { database }, account }) {
    const [candidates, twins, proofs] = await Promise.all([
      candidatesOf(database, account),
      twinsOf(database, account),
      proofsOf(database, account.id),
    ]);
    const leaving = goingOf(twins);
    const files = await repeatedFilesOf(database, account, leaving);
    const pictures = await picturesOf(database, account, leaving);
    const echoes = await echoesOf(database, account, leaving);
    const doubled = await doubledOf(database, account, leaving);
    const echoing = echoes.filter(({ state }) => state === 'goes');
    const broken = await brokenPromises(database, account);
    const paths = new Map(twins.folders.map(({ id, path }) => [id, path]));
    const going = goingByFolder(twins);
    const inSpaces = await spacePicturesOf(database, account.id);
    return {
      ...candidates,
      twins: provenOf(twins),
      files: provenFiles(files),
      pictures: {
        series: pictures.series.length + inSpaces.series.length,
        beside: sumOf(besideBest(pictures.series, pictures.rows.size), besideBest(inSpaces.series, inSpaces.rows.size)),
      },
      spaces: provenDoubled(doubled),
      hasSpaces: (await spacesOf(database, account.id)).length > 0,
      echoes: {
        threads: new Set(echoing.map(({ holder }) => holder)).size,
        going: amountOf(echoing),
        guarded: amountOf(echoes.filter(({ state }) => state === 'guarded')),
      },
      folders: twins.repeating.map(({ folder, in: other, messages, both }) => ({
        path: paths.get(folder) ?? '',
        in: other === null ? null : (paths.get(other) ?? ''),
        messages,
        both,
        going: going.get(folder) ?? { messages: 0, bytes: 0 },
        conflicts: namesConflicts(paths.get(folder) ?? ''),
      })),
      broken: countOfBroken(broken),
      proofs: proofs.map(shownProof),
    };
  },
});

function shownProof({ attempts: _, problem, endedAt, ...proof }: Proof) {
  return { ...proof, ...(problem ? { problem } : {}), ...(endedAt ? { endedAt } : {}) };
}

/** What can go as a copy of a message. */
export function goingOf({ groups }: Twins): Ranges {
  const ids: number[] = [];
  for (const { going } of groups) for (const id of going) ids.push(id);
  return rangesOf(ids);
}

function provenOf({ groups }: Twins) {
  const going = { messages: 0, bytes: 0 };
  for (const group of groups) {
    going.messages += group.going.size;
    going.bytes += group.bytes;
  }
  return { groups: groups.length, going };
}

function amountOf(messages: readonly { size: number }[]): Amount {
  return { messages: messages.length, bytes: messages.reduce((sum, { size }) => sum + size, 0) };
}

/** The pictures of series beside the best of each. */
function besideBest(series: readonly PictureSeries[], size: Float64Array): FileAmount {
  const beside = series.flatMap(({ best, rows }) => rows.filter((row) => row !== best));
  return { files: beside.length, bytes: beside.reduce((sum, row) => sum + (size[row] as number), 0) };
}

function sumOf(one: FileAmount, other: FileAmount): FileAmount {
  return { files: one.files + other.files, bytes: one.bytes + other.bytes };
}

function provenFiles({ groups }: Awaited<ReturnType<typeof repeatedFilesOf>>) {
  const going = { files: 0, bytes: 0 };
  for (const group of groups) {
    going.files += group.going.size;
    going.bytes += group.bytes;
  }
  return { groups: groups.length, going };
}

function provenDoubled(groups: readonly DoubledGroup[]) {
  const going = groups.flatMap(({ files }) => files.filter(({ state }) => state === 'goes'));
  return {
    groups: groups.length,
    going: { files: going.length, bytes: going.reduce((sum, { size }) => sum + size, 0) },
    goingThere: fileAmountOf(groups.flatMap(({ copies }) => copies.filter(({ state }) => state === 'goes'))),
  };
}

/** What of each folder can go because it lies elsewhere too. */
function goingByFolder({ rows: found, groups }: Twins): Map<number, Amount> {
  const amounts = new Map<number, Amount>();
  for (const { rows: members, going } of groups)
    for (const row of members) {
      if (!going.has(found.id[row] as number)) continue;
      const folder = found.folder[row] as number;
      const amount = amounts.get(folder) ?? { messages: 0, bytes: 0 };
      amount.messages++;
      amount.bytes += found.size[row] as number;
      amounts.set(folder, amount);
    }
  return amounts;
}

export const getProvenCopies = route({
  method: 'GET',
  path: '/accounts/{account}/repeats/proven',
  summary:
    'Tells how much was proven to exist more than once, messages and files, and can go. It looks at nothing that was not read.',
  response: s.Proven,
  async handle({ environment: { database }, account }) {
    const twins = await twinsOf(database, account);
    return {
      twins: provenOf(twins),
      files: provenFiles(await repeatedFilesOf(database, account, goingOf(twins))),
    };
  },
});

export const compareRepeats = route({
  method: 'POST',
  path: '/accounts/{account}/repeats/compare',
  summary:
    'Reads what may exist more than once, to find out whether it does: `messages`, `files`, `pictures`, the texts of `threads`, or files of messages and of file `spaces`. It reads that first from which most could be won, and at most `budget` octets.',
  body: v.object({
    what: v.optional(v.picklist(READINGS), 'messages'),
    budget: v.optional(v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(2 ** 40)), BUDGET),
  }),
  status: 202,
  response: s.Proof,
  async handle({ environment: { database }, account, body: { what, budget } }) {
    return transaction(database, async (client) => {
      await openProof(client, account.id, what, budget);
      await enqueue(client, account.id, 'prove', READINGS.indexOf(what));
      const proof = (await proofOf(client, account.id, what)) as Proof;
      await tell(client, account.id, 'repeats', proof);
      return shownProof(proof);
    });
  },
});

export const tellApartAgain = route({
  method: 'POST',
  path: '/accounts/{account}/repeats/again',
  summary:
    'Takes out of lots what would be the last of its kind though they promised that another one stays, since that one has gone. Returns how many messages and files stay.',
  response: v.object({ messages: v.pipe(v.number(), v.integer(), v.minValue(0)) }),
  async handle({ environment: { database }, account }) {
    return transaction(database, async (client) => {
      await client.query('select 1 from account where id = $1 for no key update', [account.id]);
      const messages = await keepPromises(client, account);
      await tell(client, account.id, 'level', {});
      return { messages };
    });
  },
});
