import * as v from 'valibot';
import * as s from '../../../contract/schemas';
import { samenessOf, type TwinGroup } from '../../../core/repeats/twins';
import { includes } from '../../../core/sets/ranges';
import { type Queryable, rows } from '../../../store/database';
import { type Twins, twinsOf } from '../../../store/plan/twins';
import { invalid } from '../../problem';
import { route } from '../../route';
import { marked } from './marked';
import { pageOf } from './page';

/** Messages of a folder that are named because they do not lie in the other one too. */
const MOST_ALONE = 100;
/** Copies of one message that are shown. */
const MOST_COPIES = 50;

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
    const folder = query.folder === undefined ? undefined : folderAt(twins, query.folder);
    const wanted = twins.groups.filter(
      ({ rows: members }) => folder === undefined || members.some((row) => twins.rows.folder[row] === folder),
    );
    const { page, next } = pageOf(wanted, query);
    return {
      groups: await shownGroups(database, account.id, twins, page),
      ...next,
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
    const expected = body.expect && { number: body.expect.messages, bytes: body.expect.bytes };
    return marked(database, account, expected, 'groups', async (client) => {
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
      const label = body.label ?? (body.folder === undefined ? 'copies' : `copies in ${body.folder}`);
      return { ids, bytes, label, fate: body.fate, promise: 'twins' };
    });
  },
});
