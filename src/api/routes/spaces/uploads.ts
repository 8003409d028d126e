import * as v from 'valibot';
import * as clock from '../../../clock/clock';
import { Label, Lot, FileAmount as ShownAmount, wholeNumber } from '../../../contract/schemas';
import * as s from '../../../contract/space';
import { rangesOf, union } from '../../../core/sets/ranges';
import { BadPath, folderPath, shownPath } from '../../../core/space/path';
import { roomToFill } from '../../../core/space/share';
import { trashPaths } from '../../../core/space/trash';
import { endUpload } from '../../../jobs/upload/end';
import type { Account } from '../../../store/access/accounts';
import { matchingFiles } from '../../../store/archive/file-list';
import { lockRow, type Queryable, transaction } from '../../../store/database';
import { tell } from '../../../store/events';
import { guardedNow, keepingFiles } from '../../../store/index/guarded';
import { lastReading } from '../../../store/index/readings';
import { mailFolders } from '../../../store/index/selection';
import { enqueue } from '../../../store/jobs';
import { doubledOf } from '../../../store/plan/doubled';
import { filesTakenNow, takenNow } from '../../../store/plan/taken';
import { countsAgainst } from '../../../store/space/counting';
import { type FileSpace, isOfOthers, spaceById, spacesOf } from '../../../store/space/spaces';
import { trashOf } from '../../../store/space/trash';
import {
  createUpload,
  filesOfUpload,
  LEAST_UPLOADED,
  putByUpload,
  type SpaceUpload,
  updateUpload,
  uploadable,
  uploadById,
  uploadsOf,
} from '../../../store/space/uploads';
import { readyCriteria } from '../../criteria';
import type { Environment } from '../../environment';
import { waitsOf } from '../../job-waits';
import { conflict, invalid, notFound } from '../../problem';
import { route } from '../../route';
import { marked } from '../repeats/marked';
import { theSpace } from './the-space';

type NewUpload = v.InferOutput<typeof s.NewUpload>;

function shown(upload: SpaceUpload, root: string) {
  const { folder, problem, endedAt, attempts: _, ...rest } = upload;
  return {
    ...rest,
    folder: shownPath(folder, root),
    ...(problem ? { problem } : {}),
    ...(endedAt ? { endedAt } : {}),
  };
}

async function shownNow(db: Queryable, account: number, upload: SpaceUpload) {
  const root = (await spaceById(db, account, upload.space))?.root ?? '/';
  return { ...shown(upload, root), ...(await waitsOf(db, account, 'upload', upload)) };
}

async function theUpload(db: Queryable, { id: account }: Account, id: string | undefined): Promise<SpaceUpload> {
  const upload = /^\d{1,9}$/.test(id ?? '') ? await uploadById(db, account, Number(id)) : undefined;
  if (!upload) throw notFound();
  return upload;
}

/** What of the files that are named can be put there. */
async function chosen({ database }: Pick<Environment, 'database'>, account: Account, { ids, where, scope }: NewUpload) {
  if ((ids === undefined) === (where === undefined))
    throw invalid('Say ids or where.', [{ field: 'ids', expected: 'exactly one of ids and where' }]);
  const now = clock.now();
  const asked =
    where === undefined
      ? rangesOf(ids ?? [])
      : await matchingFiles(database, account, await readyCriteria(database, account, where), scope, now);
  const kept = union([keepingFiles(await guardedNow(database, account, now)), await takenNow(database, account.id)]);
  const out = await filesTakenNow(database, account.id);
  return uploadable(database, account.id, asked, kept, out, await mailFolders(database, account));
}

async function folderOf(db: Queryable, account: Account, space: FileSpace, folder: string): Promise<string> {
  const wrong = (detail: string) => invalid(detail, [{ field: 'folder', expected: 'a folder of your own' }]);
  try {
    const path = folderPath(space.root, folder);
    if (path === space.root) throw wrong('Name a folder.');
    // Also one that is not there yet: a run would take it for the trash.
    const trashes = [(await trashOf(db, account.id, space)) ?? '', ...trashPaths(space.root)];
    if (trashes.some((trash) => trash !== '' && path.startsWith(trash)))
      throw wrong('What lies in the trash may be deleted any day.');
    if (await isOfOthers(db, account.id, space.id, path)) throw wrong('Others share this folder with you.');
    return path;
  } catch (error) {
    if (error instanceof BadPath) throw wrong('A folder can’t have this name.');
    throw error;
  }
}

export const estimateUpload = route({
  method: 'POST',
  path: '/accounts/{account}/spaces/{space}/uploads/estimate',
  summary:
    'Returns what an upload of these files would come to, and whether both count against one limit. Nothing is begun.',
  body: s.NewUpload,
  response: s.UploadEstimate,
  async handle({ environment, account, parameters, body }) {
    const { database } = environment;
    const space = await theSpace(database, account, parameters.space);
    const { inMail, inSpace } = await chosen(environment, account, body);
    const { quotaAvailable: available } = space;
    const counts = countsAgainst(space, await lastReading(database, account.id));
    return { inMail, inSpace, available, room: available === null ? null : roomToFill(available, counts), counts };
  },
});

export const startUpload = route({
  method: 'POST',
  path: '/accounts/{account}/spaces/{space}/uploads',
  summary: `Puts files of messages into a file space, each where nothing is, and reads it back. Left out is what a guard or the plan has, and what has fewer than ${LEAST_UPLOADED} octets. The messages stay as they are.`,
  body: s.NewUpload,
  status: 202,
  response: s.Upload,
  async handle({ environment, account, parameters, body }) {
    const { database } = environment;
    const space = await theSpace(database, account, parameters.space);
    if (space.state === 'locked')
      throw conflict('wrong-state', 'The file space lets nobody in. Enter its password first.');
    const folder = await folderOf(database, account, space, body.folder);
    const { ids, inMail } = await chosen(environment, account, body);
    if (ids.length === 0)
      throw invalid('None of these files can be taken out of its message, so there is nothing to put there.', [
        { field: body.ids ? 'ids' : 'where', expected: 'files that no guard and no lot has' },
      ]);
    return transaction(database, async (client) => {
      const id = await createUpload(client, account.id, {
        space: space.id,
        label:
          body.label ??
          (body.where === undefined ? `${ids.length} chosen files` : body.where.slice(0, 200) || 'all files'),
        folder,
        files: rangesOf(ids),
        asked: inMail,
      });
      await enqueue(client, account.id, 'upload', id);
      return told(client, account, id);
    });
  },
});

/** Tells of an upload as it is now, and shows it. */
async function told(client: Queryable, account: Account, id: number) {
  const upload = (await uploadById(client, account.id, id)) as SpaceUpload;
  await tell(client, account.id, 'upload', { id, state: upload.state });
  return shownNow(client, account.id, upload);
}

export const listUploads = route({
  method: 'GET',
  path: '/accounts/{account}/uploads',
  summary: 'Lists the uploads of files to file spaces, newest first.',
  response: v.object({ uploads: v.array(s.Upload) }),
  async handle({ environment: { database }, account }) {
    const roots = new Map((await spacesOf(database, account.id)).map(({ id, root }) => [id, root]));
    const uploads = await uploadsOf(database, account.id);
    return {
      uploads: await Promise.all(
        uploads.map(async (upload) => ({
          ...shown(upload, roots.get(upload.space) ?? '/'),
          ...(await waitsOf(database, account.id, 'upload', upload)),
        })),
      ),
    };
  },
});

export const getUpload = route({
  method: 'GET',
  path: '/accounts/{account}/uploads/{upload}',
  summary: 'Returns an upload and its progress.',
  response: s.Upload,
  handle: async ({ environment: { database }, account, parameters }) =>
    shownNow(database, account.id, await theUpload(database, account, parameters.upload)),
});

export const listFilesOfUpload = route({
  method: 'GET',
  path: '/accounts/{account}/uploads/{upload}/files',
  summary: 'Lists the files of an upload that were looked at: where each lies now, or why it was left.',
  query: v.object({
    limit: v.optional(wholeNumber(1, 1_000), '100'),
    after: v.optional(wholeNumber(0, Number.MAX_SAFE_INTEGER), '0'),
  }),
  response: v.object({ files: v.array(s.UploadedFile), next: v.optional(v.number()) }),
  async handle({ environment: { database }, account, parameters, query }) {
    const { id, space } = await theUpload(database, account, parameters.upload);
    const root = (await spaceById(database, account.id, space))?.root ?? '/';
    const found = await filesOfUpload(database, account.id, id, query.after, query.limit + 1);
    const files = found.slice(0, query.limit);
    const next = found.length > query.limit ? files.at(-1)?.file : undefined;
    return {
      files: files.map(({ path, bytes, reason, ...file }) => ({
        ...file,
        ...(path === null ? {} : { path: shownPath(path, root) }),
        ...(bytes === null ? {} : { bytes }),
        ...(reason === null ? {} : { reason }),
      })),
      ...(next === undefined ? {} : { next }),
    };
  },
});

const steer = (verb: 'pause' | 'resume' | 'cancel', summary: string) =>
  route({
    method: 'POST',
    path: `/accounts/{account}/uploads/{upload}/${verb}`,
    summary,
    status: 202,
    response: s.Upload,
    async handle({ environment: { database }, account, parameters }) {
      return transaction(database, async (client) => {
        await lockRow(client, 'space_upload', account.id, Number(parameters.upload) || 0);
        const upload = await theUpload(client, account, parameters.upload);
        const { id, state } = upload;
        const going = state === 'queued' || state === 'running';
        const rests = state === 'paused' || state === 'failed';
        if (verb === 'resume' ? !rests : !(going || (verb === 'cancel' && rests)))
          throw conflict('wrong-state', `Upload ${id} is ${state}, so this can’t be done: ${verb}.`);
        if (verb === 'resume') {
          await updateUpload(client, account.id, id, { state: 'queued', wanted: null, attempts: 0, problem: null });
          await enqueue(client, account.id, 'upload', id);
        } else if (rests) await endUpload(client, account.id, upload, 'cancelled');
        else await updateUpload(client, account.id, id, { wanted: verb });
        return told(client, account, id);
      });
    },
  });

export const pauseUpload = steer('pause', 'Pauses an upload. What lies there stays.');
export const resumeUpload = steer('resume', 'Goes on with an upload that was paused or that failed.');
export const cancelUpload = steer(
  'cancel',
  'Cancels an upload. What lies there stays, and can be taken out of its messages.',
);

export const createUploadLot = route({
  method: 'POST',
  path: '/accounts/{account}/uploads/{upload}/lots',
  summary:
    'Creates a lot that takes the files of an upload out of their messages, as `createDoubledLot` does: it promises that the file space has each when it goes.',
  body: v.object({ label: v.optional(Label), expect: v.optional(ShownAmount) }),
  status: 201,
  response: Lot,
  async handle({ environment: { database }, account, parameters, body }) {
    const upload = await theUpload(database, account, parameters.upload);
    const expected = body.expect && { number: body.expect.files, bytes: body.expect.bytes };
    return marked(database, account, expected, 'upload', async (client) => {
      const put = new Set(await putByUpload(client, account.id, upload.id));
      const going = (await doubledOf(client, account))
        .flatMap(({ files }) => files)
        .filter(({ file, state }) => state === 'goes' && put.has(file));
      return {
        ids: going.map(({ file }) => file),
        bytes: going.reduce((sum, { size }) => sum + size, 0),
        label: body.label ?? upload.label,
        fate: 'strip',
        promise: 'spaces',
      };
    });
  },
});
