import * as v from 'valibot';
import { wholeNumber } from '../../../contract/schemas';
import * as s from '../../../contract/space';
import { BadPath, folderPath, shownPath } from '../../../core/space/path';
import type { Account } from '../../../store/access/accounts';
import { type Queryable, transaction } from '../../../store/database';
import { tell } from '../../../store/events';
import {
  createFileLot,
  exceptFiles,
  type FileLot,
  fileLotById,
  filePlanOf,
  filesOfLot,
  type NamedFiles,
  type NewFileLot,
} from '../../../store/plan/file-lots';
import { dropLot } from '../../../store/plan/lots';
import { takenOutOfMail } from '../../../store/plan/taken-out';
import { type FileAmount, spaceById, spacesOf } from '../../../store/space/spaces';
import { cursorFrom, cursorText } from '../../cursor';
import { invalid, notFound } from '../../problem';
import { route } from '../../route';
import { theSpace } from './the-space';

type ShownLot = FileLot & { takenOut: number };

/** The lots of files in the plan, with what no message has any more. */
async function shownPlan(db: Queryable, account: Account): Promise<{ lots: ShownLot[]; total: FileAmount }> {
  const { lots, total } = await filePlanOf(db, account.id);
  const takenOut = await takenOutOfMail(db, account);
  return { lots: lots.map((lot) => ({ ...lot, takenOut: takenOut.get(lot.id) ?? 0 })), total };
}

export async function shownLot(db: Queryable, account: Account, id: number): Promise<ShownLot> {
  const lot = (await shownPlan(db, account)).lots.find((one) => one.id === id);
  if (!lot) throw notFound();
  return lot;
}

async function theLot(db: Queryable, { id: account }: Account, id: string | undefined) {
  const lot = /^\d{1,9}$/.test(id ?? '') ? await fileLotById(db, account, Number(id)) : undefined;
  if (!lot) throw notFound();
  return lot;
}

export const listFileLots = route({
  method: 'GET',
  path: '/accounts/{account}/file-lots',
  summary: 'Lists the lots of files in the plan, and their union.',
  response: s.FilePlan,
  async handle({ environment: { database }, account }) {
    return shownPlan(database, account);
  },
});

export const makeFileLot = route({
  method: 'POST',
  path: '/accounts/{account}/spaces/{space}/lots',
  summary:
    'Creates a lot of files: it marks them for the trash of the file space (`trash`), for deletion (`purge`), or pictures to be made smaller (`shrink`, with `shrinking`), as they are now. Send `ids`, or a `folder` with all below it. What others share stays out.',
  body: s.NewFileLot,
  status: 201,
  response: s.FileLot,
  async handle({ environment: { database }, account, parameters, body }) {
    return transaction(database, async (client) => {
      const space = await theSpace(client, account, parameters.space);
      const named = namedFiles(space.root, body);
      const label =
        body.label ??
        ('ids' in named ? `${named.ids.length} chosen files` : (body.folder || 'all files').slice(0, 200));
      const id = await createFileLot(client, account, space, { label, ...fateOf(body), named });
      if (id === undefined) throw nothingToMark(body.ids ? 'ids' : 'folder');
      await tell(client, account.id, 'level', {});
      return shownLot(client, account, id);
    });
  },
});

export const makeFileLots = route({
  method: 'POST',
  path: '/accounts/{account}/file-lots',
  summary: 'Creates a lot of files in each file space that has any of these, as `makeFileLot` does.',
  body: s.NewFileLots,
  status: 201,
  response: v.object({ lots: v.array(s.FileLot) }),
  async handle({ environment: { database }, account, body }) {
    return transaction(database, async (client) => {
      const label = body.label ?? `${body.ids.length} chosen files`;
      return { lots: await lotsInSpaces(client, account, { label, ...fateOf(body), named: { ids: body.ids } }) };
    });
  },
});

/** Makes a lot in each file space that has any of some files. @throws Problem where none has. */
export async function lotsInSpaces(client: Queryable, account: Account, lot: NewFileLot): Promise<ShownLot[]> {
  const made = new Set<number>();
  for (const space of await spacesOf(client, account.id)) {
    const id = await createFileLot(client, account, space, lot);
    if (id !== undefined) made.add(id);
  }
  if (made.size === 0) throw nothingToMark('ids');
  await tell(client, account.id, 'level', {});
  return (await shownPlan(client, account)).lots.filter(({ id }) => made.has(id));
}

/** @throws Problem where it is not said how pictures are made smaller, or said of what is not. */
function fateOf({ fate, shrinking }: Pick<v.InferOutput<typeof s.NewFileLot>, 'fate' | 'shrinking'>) {
  if ((fate === 'shrink') !== (shrinking !== undefined))
    throw invalid('Say how pictures are made smaller, with the fate shrink alone.', [
      { field: 'shrinking', expected: 'the longer side, with the fate shrink' },
    ]);
  return { fate, shrinking: shrinking ?? null };
}

function nothingToMark(field: 'ids' | 'folder') {
  return invalid(
    'There is nothing to mark: these files are gone, are shared by others, lie in the trash, or are no pictures where these are to be made smaller.',
    [{ field, expected: 'files of your own that are there' }],
  );
}

function namedFiles(
  root: string,
  { ids, folder }: { ids?: number[] | undefined; folder?: string | undefined },
): NamedFiles {
  if ((ids === undefined) === (folder === undefined))
    throw invalid('Say ids or folder.', [{ field: 'ids', expected: 'exactly one of ids and folder' }]);
  try {
    return ids ? { ids } : { folder: folderPath(root, folder ?? '') };
  } catch (error) {
    if (error instanceof BadPath)
      throw invalid('There is no such folder.', [{ field: 'folder', expected: 'a folder' }]);
    throw error;
  }
}

export const changeFileLot = route({
  method: 'PATCH',
  path: '/accounts/{account}/file-lots/{lot}',
  summary: 'Changes a lot of files: `alsoExcept` adds files to its exceptions, and `takeIn` takes them in again.',
  body: v.object({ alsoExcept: s.NewFileLot.entries.ids, takeIn: s.NewFileLot.entries.ids }),
  response: s.FileLot,
  async handle({ environment: { database }, account, parameters, body }) {
    return transaction(database, async (client) => {
      const { id } = await theLot(client, account, parameters.lot);
      await exceptFiles(client, account.id, id, body.alsoExcept ?? [], body.takeIn ?? []);
      await tell(client, account.id, 'level', {});
      return shownLot(client, account, id);
    });
  },
});

export const deleteFileLot = route({
  method: 'DELETE',
  path: '/accounts/{account}/file-lots/{lot}',
  summary: 'Removes a lot of files from the plan. Nothing in the file space changes.',
  status: 204,
  async handle({ environment: { database }, account, parameters }) {
    await transaction(database, async (client) => {
      const { id } = await theLot(client, account, parameters.lot);
      await dropLot(client, account.id, id);
      await tell(client, account.id, 'level', {});
    });
  },
});

export const listFilesOfLot = route({
  method: 'GET',
  path: '/accounts/{account}/file-lots/{lot}/files',
  summary: 'Lists the files of a lot, the largest first, the excepted ones too.',
  query: v.object({ limit: v.optional(wholeNumber(1, 1_000), '100'), after: v.optional(v.string()) }),
  response: v.object({ files: v.array(s.LotFile), next: v.optional(v.string()) }),
  async handle({ environment: { database }, account, parameters, query }) {
    const lot = await theLot(database, account, parameters.lot);
    const space = await spaceById(database, account.id, lot.space);
    const after = cursorFrom(query.after);
    const found = await filesOfLot(database, account.id, lot.id, {
      limit: query.limit + 1,
      after: after && { bytes: Number(after.value), id: after.id },
    });
    const files = found.slice(0, query.limit);
    const last = files.at(-1);
    return {
      files: files.map((file) => ({ ...file, path: shownPath(file.path, space?.root ?? '/') })),
      ...(found.length > query.limit && last ? { next: cursorText({ value: `${last.bytes}`, id: last.id }) } : {}),
    };
  },
});
