import * as v from 'valibot';
import * as clock from '../../clock/clock';
import * as s from '../../contract/schemas';
import type { Amount } from '../../core/level/level';
import { readingOf } from '../../core/repeats/reading';
import { samenessOf, type TwinGroup } from '../../core/repeats/twins';
import { includes } from '../../core/sets/ranges';
import type { Account } from '../../store/access/accounts';
import { type Database, type Queryable, rows, theRow, transaction } from '../../store/database';
import { tell } from '../../store/events';
import { twinCandidates } from '../../store/index/twins';
import { enqueue } from '../../store/jobs';
import { createLot, planOf } from '../../store/plan/lots';
import { openProof, proofOf } from '../../store/plan/proof';
import { brokenPromises, keepOneOfTwins, type Twins, twinsOf } from '../../store/plan/twins';
import { cursorFrom, cursorText } from '../cursor';
import { conflict, invalid } from '../problem';
import { route } from '../route';

/** Octets that are read at once, where nothing is said. */
const BUDGET = 2 ** 30;
/** Messages of a folder that are named because they do not lie in the other one too. */
const MOST_ALONE = 100;
/** Copies of one message that are shown. */
const MOST_COPIES = 50;

/** What the index alone tells, by account: it is asked for often, and only a scan or the reading changes it. */
const known = new Map<number, { version: number; read: number; found: ReturnType<typeof summaryOf> }>();
const MOST_KNOWN = 32;

async function candidatesOf(database: Database, account: Account) {
  const { version, read, isScanning } = await theRow<{ version: number; read: number; isScanning: boolean }>(
    database,
    `select index_version as version, (select count(*)::int from twin_digest where account = $1) as read,
       exists (select from scan where account = $1 and state in ('queued', 'running')) as "isScanning"
     from account where id = $1`,
    [account.id],
  );
  const before = known.get(account.id);
  // A scan changes the index all the time: until it is done what was found before it does.
  if (before?.read === read && (before.version === version || isScanning)) return before.found;
  const found = summaryOf(await twinCandidates(database, account));
  known.delete(account.id);
  known.set(account.id, { version, read, found });
  for (const [oldest] of known) if (known.size > MOST_KNOWN) known.delete(oldest);
  return found;
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
    'Tells what exists more than once: what may by the index alone, what was proven by reading it, which folders repeat others, and how far the reading is.',
  response: s.Repeats,
  async handle({ environment: { database }, account }) {
    const [candidates, twins, proof] = await Promise.all([
      candidatesOf(database, account),
      twinsOf(database, account),
      proofOf(database, account.id),
    ]);
    const broken = await brokenPromises(database, account, twins);
    const paths = new Map(twins.folders.map(({ id, path }) => [id, path]));
    const going = goingByFolder(twins);
    return {
      candidates,
      twins: provenOf(twins),
      folders: twins.repeating.map(({ folder, in: other, messages, both }) => ({
        path: paths.get(folder) ?? '',
        in: other === null ? null : (paths.get(other) ?? ''),
        messages,
        both,
        going: going.get(folder) ?? { messages: 0, bytes: 0 },
      })),
      broken: broken.length,
      ...(proof ? { proof: shownProof(proof) } : {}),
    };
  },
});

function shownProof({ attempts: _, problem, endedAt, ...proof }: NonNullable<Awaited<ReturnType<typeof proofOf>>>) {
  return { ...proof, ...(problem ? { problem } : {}), ...(endedAt ? { endedAt } : {}) };
}

function provenOf({ groups }: Twins) {
  const going = { messages: 0, bytes: 0 };
  for (const group of groups) {
    going.messages += group.going.size;
    going.bytes += group.bytes;
  }
  return { groups: groups.length, going };
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
  summary: 'Tells how much was proven to exist more than once, and can go. It looks at nothing that was not read.',
  response: s.ProvenCopies,
  handle: async ({ environment: { database }, account }) => provenOf(await twinsOf(database, account)),
});

export const compareTwins = route({
  method: 'POST',
  path: '/accounts/{account}/repeats/compare',
  summary:
    'Reads messages that may exist more than once, to find out whether they do. It reads those first from which most could be won, and at most `budget` octets.',
  body: v.object({ budget: v.optional(v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(2 ** 40)), BUDGET) }),
  status: 202,
  response: s.Proof,
  async handle({ environment: { database }, account, body }) {
    return transaction(database, async (client) => {
      await openProof(client, account.id, body.budget);
      await enqueue(client, account.id, 'prove', 0);
      const proof = await proofOf(client, account.id);
      await tell(client, account.id, 'repeats', proof);
      return shownProof(proof as NonNullable<typeof proof>);
    });
  },
});

export const listTwins = route({
  method: 'GET',
  path: '/accounts/{account}/repeats/twins',
  summary:
    'Lists messages that were proven to exist more than once, those first from which most is won; with each copy, whether it stays or can go, and why.',
  query: v.object({
    folder: v.optional(v.pipe(v.string(), v.minLength(1))),
    limit: v.optional(s.wholeNumber(1, 500), '100'),
    after: v.optional(v.string()),
  }),
  response: v.object({ groups: v.array(s.TwinGroup), next: v.optional(v.string()) }),
  async handle({ environment: { database }, account, query }) {
    const twins = await twinsOf(database, account);
    const after = cursorFrom(query.after);
    const folder = query.folder === undefined ? undefined : folderAt(twins, query.folder);
    const wanted = twins.groups.filter(
      ({ id, bytes, rows: members }) =>
        (!after || bytes < Number(after.value) || (bytes === Number(after.value) && id > after.id)) &&
        (folder === undefined || members.some((row) => twins.rows.folder[row] === folder)),
    );
    const page = wanted.slice(0, query.limit);
    const last = page.at(-1);
    return {
      groups: await shownGroups(database, account.id, twins, page),
      ...(last && wanted.length > page.length ? { next: cursorText({ value: `${last.bytes}`, id: last.id }) } : {}),
    };
  },
});

function folderAt({ folders }: Twins, path: string): number {
  const found = folders.find((one) => one.path === path);
  if (!found) throw invalid('There is no such folder.', [{ field: 'folder', expected: 'the path of a folder' }]);
  return found.id;
}

interface Told {
  id: number;
  subject: string;
  name: string;
  address: string;
  date: Date | null;
}

async function shownGroups(db: Queryable, account: number, twins: Twins, groups: readonly TwinGroup[]) {
  const { rows: found, folders, guarded, taken } = twins;
  const told = await rows<Told>(
    db,
    `select p.id, m.subject, m.from_name as name, m.from_address as address, m.sent as date
     from unnest($2::bigint[]) as wanted (id) join placement p on p.account = $1 and p.id = wanted.id
     join message m on m.account = p.account and m.id = p.message`,
    [account, groups.map(({ id }) => id)],
  );
  const byId = new Map(told.map((one) => [one.id, one]));
  const paths = new Map(folders.map(({ id, path }) => [id, path]));
  return groups.flatMap(({ id, rows: members, kept, going, bytes }) => {
    const message = byId.get(id);
    if (!message) return [];
    const stays = members.find((row) => found.id[row] === kept?.id);
    // The one that stays stands first.
    const inOrder = stays === undefined ? members : [stays, ...members.filter((row) => row !== stays)];
    const copies = inOrder.slice(0, MOST_COPIES).map((row) => {
      const copy = found.id[row] as number;
      const state =
        copy === kept?.id
          ? ('stays' as const)
          : includes(taken, copy)
            ? ('marked' as const)
            : going.has(copy)
              ? ('goes' as const)
              : includes(guarded, copy)
                ? ('guarded' as const)
                : ('stays' as const);
      return {
        id: copy,
        folder: paths.get(found.folder[row] as number) ?? '',
        size: found.size[row] as number,
        received: new Date((found.received[row] as number) * 1000),
        state,
        ...(copy === kept?.id ? { why: kept.why } : {}),
        ...(stays !== undefined && row !== stays ? { same: samenessOf(found, row, stays) } : {}),
      };
    });
    const { subject, name, address, date } = message;
    return [
      {
        id,
        subject,
        from: address === '' && name === '' ? null : { name, address },
        date,
        going: { messages: going.size, bytes },
        copies,
        more: members.length - copies.length,
      },
    ];
  });
}

export const listAlone = route({
  method: 'GET',
  path: '/accounts/{account}/repeats/alone',
  summary:
    'Lists the messages of a folder that were not found in another one (`in`), or in any other, the newest first; at most 100.',
  query: v.object({ folder: v.pipe(v.string(), v.minLength(1)), in: v.optional(v.pipe(v.string(), v.minLength(1))) }),
  response: v.object({ ids: v.array(v.number()) }),
  async handle({ environment: { database }, account, query }) {
    const twins = await twinsOf(database, account);
    const folder = folderAt(twins, query.folder);
    const other = query.in === undefined ? undefined : folderAt(twins, query.in);
    const both = new Set<number>();
    for (const { rows: members } of twins.groups)
      if (
        members.some((row) =>
          other === undefined ? twins.rows.folder[row] !== folder : twins.rows.folder[row] === other,
        )
      )
        for (const row of members) if (twins.rows.folder[row] === folder) both.add(twins.rows.id[row] as number);
    const found = await rows<{ id: number }>(
      database,
      `select p.id from placement p
       where p.account = $1 and p.folder = $2 and p.gone_at is null
         and not exists (select from unnest($3::bigint[]) as other (id) where other.id = p.id)
       order by p.received desc, p.id desc limit $4`,
      [account.id, folder, [...both], MOST_ALONE],
    );
    return { ids: found.map(({ id }) => id) };
  },
});

export const createTwinLot = route({
  method: 'POST',
  path: '/accounts/{account}/repeats/lots',
  summary:
    'Creates a lot of the copies that can go: of all messages that were proven to exist more than once, of some (`groups`), of all but some (`except`), or of those in a folder. It promises that one of each stays.',
  body: v.object({
    groups: v.optional(s.Ids),
    except: v.optional(s.Ids, []),
    folder: v.optional(v.pipe(v.string(), v.minLength(1))),
    label: v.optional(s.Label),
    fate: v.optional(v.picklist(['trash', 'archive']), 'trash'),
    expect: v.optional(s.Amount),
  }),
  status: 201,
  response: s.Lot,
  async handle({ environment: { database }, account, body }) {
    return transaction(database, async (client) => {
      await client.query('select 1 from account where id = $1 for no key update', [account.id]);
      const twins = await twinsOf(client, account);
      const folder = body.folder === undefined ? undefined : folderAt(twins, body.folder);
      const wanted = body.groups && new Set(body.groups);
      const excepted = new Set(body.except);
      const ids: number[] = [];
      let bytes = 0;
      for (const { id, rows: members, going } of twins.groups) {
        if ((wanted && !wanted.has(id)) || excepted.has(id)) continue;
        for (const row of members) {
          const copy = twins.rows.id[row] as number;
          if (!going.has(copy) || (folder !== undefined && twins.rows.folder[row] !== folder)) continue;
          ids.push(copy);
          bytes += twins.rows.size[row] as number;
        }
      }
      if (ids.length === 0)
        throw invalid('No copy of these can go, so there is nothing to mark.', [
          { field: 'groups', expected: 'messages with copies that can go' },
        ]);
      if (body.expect && (body.expect.messages !== ids.length || body.expect.bytes !== bytes))
        throw conflict(
          'not-as-expected',
          'The mailbox has changed in the meantime. Check which copies can go now, and mark again.',
        );
      const made = await createLot(client, account, {
        label: body.label ?? (body.folder === undefined ? 'copies' : `copies in ${body.folder}`).slice(0, 200),
        fate: body.fate,
        selector: { ids },
        except: [],
        scope: 'mail',
        ofTwins: true,
        now: clock.now(),
      });
      await tell(client, account.id, 'level', {});
      const lot = (await planOf(client, account.id)).lots.find(({ id }) => id === made);
      if (!lot) throw new Error('a lot that was made is not in the plan');
      return lot;
    });
  },
});

export const tellApartAgain = route({
  method: 'POST',
  path: '/accounts/{account}/repeats/again',
  summary:
    'Takes out of lots of copies what would be the last copy of a message, since the one that was to stay has gone. Returns how many messages stay.',
  response: v.object({ messages: v.pipe(v.number(), v.integer(), v.minValue(0)) }),
  async handle({ environment: { database }, account }) {
    const staying = await transaction(database, async (client) => {
      const found = await keepOneOfTwins(client, account);
      await tell(client, account.id, 'level', {});
      return found;
    });
    return { messages: staying.length };
  },
});
