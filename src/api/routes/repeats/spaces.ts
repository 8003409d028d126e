import * as v from 'valibot';
import * as s from '../../../contract/schemas';
import { FileLot } from '../../../contract/space';
import { shownPath } from '../../../core/space/path';
import type { Account } from '../../../store/access/accounts';
import { type Queryable, transaction } from '../../../store/database';
import { type DoubledGroup, doubledOf } from '../../../store/plan/doubled';
import { twinsOf } from '../../../store/plan/twins';
import { conflict } from '../../problem';
import { route } from '../../route';
import { lotsInSpaces } from '../spaces/lots';
import { marked } from './marked';
import { pageOf } from './page';
import { fileAmountOf, goingOf } from './summary';
import { toldMessages } from './told';

/** Messages with one file that are shown. */
const MOST_COPIES = 50;

export const listDoubledFiles = route({
  method: 'GET',
  path: '/accounts/{account}/repeats/spaces',
  summary:
    'Lists files that were proven to lie in a file space and in messages, those first from which most is won; with each message, whether the file can be taken out of it.',
  query: v.object({ limit: v.optional(s.wholeNumber(1, 200), '100'), after: v.optional(v.string()) }),
  response: v.object({ groups: v.array(s.DoubledGroup), next: v.optional(v.string()) }),
  async handle({ environment: { database }, account, query }) {
    const found = await doubledOf(database, account, goingOf(await twinsOf(database, account)));
    const { page, next } = pageOf(found, query);
    return {
      groups: await shownGroups(database, account.id, page),
      ...next,
    };
  },
});

async function shownGroups(db: Queryable, account: number, groups: readonly DoubledGroup[]) {
  const messages = await toldMessages(
    db,
    account,
    groups.flatMap(({ files }) => files.slice(0, MOST_COPIES).map(({ placement }) => placement)),
  );
  return groups.flatMap(({ id, sha256, files, copies, bytes }) => {
    const [first] = copies;
    // It went since the groups were made.
    if (!first) return [];
    const shown = files.slice(0, MOST_COPIES).flatMap(({ file, placement, size, state }) => {
      const message = messages.get(placement);
      if (!message) return [];
      const { id: own, message: _, ...told } = message;
      return [{ file, message: own, ...told, size, state }];
    });
    return [
      {
        ...{ id, sha256, name: first.name, bytes: first.bytes },
        places: copies.map(({ id: file, space, path, root, state }) => ({
          ...{ file, space, path: shownPath(path, root), state },
        })),
        going: { files: files.filter(({ state }) => state === 'goes').length, bytes },
        goingThere: fileAmountOf(copies.filter(({ state }) => state === 'goes')),
        copies: shown,
        more: files.length - shown.length,
      },
    ];
  });
}

const ChosenGroups = v.object({
  groups: v.optional(s.Ids),
  except: v.optional(s.Ids, []),
  label: v.optional(s.Label),
  expect: v.optional(s.FileAmount),
});

async function chosenGroups(
  db: Queryable,
  account: Account,
  { groups, except }: Pick<v.InferOutput<typeof ChosenGroups>, 'groups' | 'except'>,
): Promise<DoubledGroup[]> {
  const wanted = groups && new Set(groups);
  const excepted = new Set(except);
  const found = await doubledOf(db, account, goingOf(await twinsOf(db, account)));
  return found.filter(({ id }) => (!wanted || wanted.has(id)) && !excepted.has(id));
}

export const createDoubledLot = route({
  method: 'POST',
  path: '/accounts/{account}/repeats/spaces/lots',
  summary:
    'Creates a lot that takes files out of messages which a file space has too: of all, of some (`groups`), or of all but some (`except`). It promises that the file space has each when it goes; what stands in its place says where.',
  body: ChosenGroups,
  status: 201,
  response: s.Lot,
  async handle({ environment: { database }, account, body }) {
    const expected = body.expect && { number: body.expect.files, bytes: body.expect.bytes };
    return marked(database, account, expected, 'groups', async (client) => {
      const going = (await chosenGroups(client, account, body)).flatMap(({ files }) =>
        files.filter(({ state }) => state === 'goes'),
      );
      return {
        ids: going.map(({ file }) => file),
        bytes: going.reduce((sum, { size }) => sum + size, 0),
        label: body.label ?? 'files that the file space has too',
        fate: 'strip',
        promise: 'spaces',
      };
    });
  },
});

export const createDoubledFileLots = route({
  method: 'POST',
  path: '/accounts/{account}/repeats/spaces/file-lots',
  summary:
    'Creates a lot in each file space that moves to its trash what messages have too: of all, of some (`groups`), or of all but some (`except`). It promises that a message outside the trash has each when it goes.',
  body: ChosenGroups,
  status: 201,
  response: v.object({ lots: v.array(FileLot) }),
  async handle({ environment: { database }, account, body }) {
    return transaction(database, async (client) => {
      await client.query('select 1 from account where id = $1 for no key update', [account.id]);
      const going = (await chosenGroups(client, account, body)).flatMap(({ copies }) =>
        copies.filter(({ state }) => state === 'goes'),
      );
      const { files, bytes } = fileAmountOf(going);
      if (body.expect && (body.expect.files !== files || body.expect.bytes !== bytes))
        throw conflict(
          'not-as-expected',
          'The file space has changed in the meantime. Check what can go now, and mark again.',
        );
      return {
        lots: await lotsInSpaces(client, account, {
          label: body.label ?? 'files that messages have too',
          fate: 'trash',
          named: { ids: going.map(({ id }) => id) },
          promise: 'mail',
        }),
      };
    });
  },
});
