import * as v from 'valibot';
import * as s from '../../../contract/schemas';
import { FILE_KINDS } from '../../../core/files/kinds';
import type { FileGroup } from '../../../core/repeats/file-copies';
import { includes } from '../../../core/sets/ranges';
import { type Queryable, rows } from '../../../store/database';
import { type RepeatedFiles, repeatedFilesOf } from '../../../store/plan/repeated-files';
import { twinsOf } from '../../../store/plan/twins';
import { route } from '../../route';
import { marked } from './marked';
import { pageOf } from './page';
import { goingOf } from './summary';
import { toldMessages } from './told';

/** Messages with one file that are shown. */
const MOST_COPIES = 50;

export const listRepeatedFiles = route({
  method: 'GET',
  path: '/accounts/{account}/repeats/files',
  summary:
    'Lists files that were proven to lie in several messages, those first from which most is won; with each message, whether the file stays in it or can go, and why.',
  query: v.object({ limit: v.optional(s.wholeNumber(1, 200), '100'), after: v.optional(v.string()) }),
  response: v.object({ groups: v.array(s.FileGroup), next: v.optional(v.string()) }),
  async handle({ environment: { database }, account, query }) {
    const found = await repeatedFilesOf(database, account, goingOf(await twinsOf(database, account)));
    const { page, next } = pageOf(found.groups, query);
    return {
      groups: await shownGroups(database, account.id, found, page),
      ...next,
    };
  },
});

interface ToldFile {
  id: number;
  name: string;
  type: string;
  kind: number;
  size: number;
  sha256: string;
}

async function shownGroups(db: Queryable, account: number, found: RepeatedFiles, groups: readonly FileGroup[]) {
  const { rows: all } = found;
  const shown = groups.map((group) => {
    // The one that stays stands first.
    const order = group.rows.map((row, at) => ({ row, file: group.files[at] as (typeof group.files)[number] }));
    order.sort((a, b) => Number(b.file.id === group.kept?.id) - Number(a.file.id === group.kept?.id));
    return { group, copies: order.slice(0, MOST_COPIES) };
  });
  const messages = await toldMessages(
    db,
    account,
    shown.flatMap(({ copies }) => copies.map(({ row }) => all.placement[row] as number)),
  );
  const files = await rows<ToldFile>(
    db,
    `select f.id, f.name, f.type, f.kind::int as kind, f.own_size as size, encode(d.sha256, 'hex') as sha256
     from unnest($2::bigint[]) as wanted (id) join file f on f.account = $1 and f.id = wanted.id
     join file_digest d on d.account = $1 and d.file = f.id`,
    [account, groups.map(({ id, kept }) => kept?.id ?? id)],
  );
  const byId = new Map(files.map((file) => [file.id, file]));
  return shown.flatMap(({ group, copies }) => {
    const file = byId.get(group.kept?.id ?? group.id);
    if (!file) return [];
    return [
      {
        id: group.id,
        name: file.name,
        type: file.type,
        kind: FILE_KINDS[file.kind] ?? 'other',
        size: file.size,
        sha256: file.sha256,
        going: { files: group.going.size, bytes: group.bytes },
        copies: copies.flatMap(({ row, file: copy }) => {
          const message = messages.get(all.placement[row] as number);
          if (!message) return [];
          const { id, message: _, ...told } = message;
          const isKept = copy.id === group.kept?.id;
          const state = isKept
            ? ('stays' as const)
            : group.going.has(copy.id)
              ? ('goes' as const)
              : copy.taken
                ? ('marked' as const)
                : includes(found.guarded, id)
                  ? ('guarded' as const)
                  : ('stays' as const);
          return [
            {
              file: copy.id,
              message: id,
              ...told,
              size: all.size[row] as number,
              state,
              ...(isKept && group.kept ? { why: group.kept.why } : {}),
            },
          ];
        }),
        more: group.rows.length - copies.length,
      },
    ];
  });
}

export const createFileLot = route({
  method: 'POST',
  path: '/accounts/{account}/repeats/files/lots',
  summary:
    'Creates a lot that takes files out which lie in several messages: of all, of some (`groups`), or of all but some (`except`). With `keep` `one` it promises that one of each stays in the mailbox, and what stands in the place of a file names the message that has it. With `none` all go, once a copy of one of each was saved and checked.',
  body: v.object({
    groups: v.optional(s.Ids),
    except: v.optional(s.Ids, []),
    keep: v.optional(v.picklist(['one', 'none']), 'one'),
    label: v.optional(s.Label),
    expect: v.optional(s.FileAmount),
  }),
  status: 201,
  response: s.Lot,
  async handle({ environment: { database }, account, body }) {
    const expected = body.expect && { number: body.expect.files, bytes: body.expect.bytes };
    return marked(database, account, expected, 'groups', async (client) => {
      const { rows: all, groups } = await repeatedFilesOf(client, account, goingOf(await twinsOf(client, account)));
      const wanted = body.groups && new Set(body.groups);
      const excepted = new Set(body.except);
      const ids: number[] = [];
      let bytes = 0;
      for (const { id, rows: members, files, going } of groups) {
        if ((wanted && !wanted.has(id)) || excepted.has(id)) continue;
        for (const [at, row] of members.entries()) {
          const file = files[at] as (typeof files)[number];
          const goes = body.keep === 'one' ? going.has(file.id) : !file.taken && !file.guarded;
          if (!goes) continue;
          ids.push(file.id);
          bytes += all.size[row] as number;
        }
      }
      const promise = body.keep === 'one' ? ('files' as const) : null;
      return { ids, bytes, label: body.label ?? 'files mailed again', fate: 'strip', promise };
    });
  },
});
