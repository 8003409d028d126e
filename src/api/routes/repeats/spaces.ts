import * as v from 'valibot';
import * as s from '../../../contract/schemas';
import { shownPath } from '../../../core/space/path';
import type { Queryable } from '../../../store/database';
import { type DoubledGroup, doubledOf } from '../../../store/plan/doubled';
import { twinsOf } from '../../../store/plan/twins';
import { spaceCopies } from '../../../store/space/doubled';
import { route } from '../../route';
import { marked } from './marked';
import { pageOf } from './page';
import { goingOf } from './summary';
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
  const copies = await spaceCopies(
    db,
    account,
    groups.map(({ sha256 }) => sha256),
  );
  const messages = await toldMessages(
    db,
    account,
    groups.flatMap(({ files }) => files.slice(0, MOST_COPIES).map(({ placement }) => placement)),
  );
  return groups.flatMap(({ id, sha256, files, bytes }) => {
    const there = copies.filter((copy) => copy.sha256 === sha256);
    const [first] = there;
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
        places: there.map(({ space, path, root }) => ({ space, path: shownPath(path, root) })),
        going: { files: files.filter(({ state }) => state === 'goes').length, bytes },
        copies: shown,
        more: files.length - shown.length,
      },
    ];
  });
}

export const createDoubledLot = route({
  method: 'POST',
  path: '/accounts/{account}/repeats/spaces/lots',
  summary:
    'Creates a lot that takes files out of messages which a file space has too: of all, of some (`groups`), or of all but some (`except`). It promises that the file space has each when it goes; what stands in its place says where.',
  body: v.object({
    groups: v.optional(s.Ids),
    except: v.optional(s.Ids, []),
    label: v.optional(s.Label),
    expect: v.optional(s.FileAmount),
  }),
  status: 201,
  response: s.Lot,
  async handle({ environment: { database }, account, body }) {
    const expected = body.expect && { number: body.expect.files, bytes: body.expect.bytes };
    return marked(database, account, expected, 'groups', async (client) => {
      const wanted = body.groups && new Set(body.groups);
      const excepted = new Set(body.except);
      const going = (await doubledOf(client, account, goingOf(await twinsOf(client, account))))
        .filter(({ id }) => (!wanted || wanted.has(id)) && !excepted.has(id))
        .flatMap(({ files }) => files.filter(({ state }) => state === 'goes'));
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
