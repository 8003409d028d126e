import { createReadStream } from 'node:fs';
import { Readable } from 'node:stream';
import * as v from 'valibot';
import { type Bag as BagFolder, TAG_FILES } from '../../archive/bag';
import { messageIn } from '../../archive/mbox-reader';
import { repairFile } from '../../archive/repair';
import * as s from '../../contract/schemas';
import { fromLine } from '../../core/archive/mbox';
import { fileId, WHOLE_MESSAGE } from '../../core/files/file';
import { trashFolders } from '../../core/mailbox/folders';
import { type Ranges, rangesOf } from '../../core/sets/ranges';
import type { Account } from '../../store/access/accounts';
import { dropArchived } from '../../store/archive/archived';
import {
  type Bag,
  bagById,
  bagsOf,
  checkHandedIn,
  createBag,
  hasPath,
  isHeld,
  savedFiles,
  holdBag as storeHold,
  unsavedFiles,
  updateBag,
} from '../../store/archive/bags';
import { forgetBrought } from '../../store/archive/brought';
import { matchingFiles } from '../../store/archive/file-list';
import { askForReading, damagedFile, damagedFiles, noteRepaired } from '../../store/archive/fixity';
import { lockRow, type Queryable, transaction } from '../../store/database';
import { tell } from '../../store/events';
import { foldersOf } from '../../store/index/folders';
import { messagesMatching } from '../../store/index/messages';
import { enqueue } from '../../store/jobs';
import { labelsOf, messagesOfLots, uncheckedFilesOf } from '../../store/plan/lots';
import { appendBagEntry, type BagEntry } from '../../store/runs/bag-entries';
import { openPutBackOf } from '../../store/runs/put-backs';
import { zipAnswer } from '../archive-answer';
import { octetsOf } from '../body';
import { readyCriteria } from '../criteria';
import type { Environment } from '../environment';
import { waitsOf } from '../job-waits';
import { conflict, invalid, notFound } from '../problem';
import { wantProof } from '../proof';
import { route } from '../route';
import { shownBag } from '../shown';

async function shownNow(db: Queryable, account: number, bag: Bag) {
  return { ...shownBag(bag), ...(await waitsOf(db, account, bag.brought ? 'bring-in' : 'save', bag)) };
}

async function theBag(db: Queryable, account: Account, id: string | undefined): Promise<Bag> {
  const bag = await bagById(db, account.id, Number(id));
  if (!bag) throw notFound();
  return bag;
}

/** A run that archives steers its bag itself. */
function isOfNoRun({ id, run }: Bag): void {
  if (run && run.state !== 'done' && run.state !== 'cancelled')
    throw conflict('bag-of-run', `Run ${run.id} writes bag ${id}. Pause, resume or cancel the run.`);
}

/** Characters of a label that is made of criteria. */
const MAX_LABEL = 200;

const SaveFiles = v.object({
  label: v.optional(s.Label),
  /** `here`: into the archive of this machine. `download`: to be downloaded, and handed in to be checked. */
  place: v.picklist(['here', 'download']),
  /** Files by themselves, whole messages as .eml (RFC 5322), or whole messages in mbox files (RFC 4155), which stay on this machine. */
  what: v.optional(v.picklist(['files', 'messages', 'mail']), 'files'),
  where: v.optional(v.pipe(v.string(), v.maxLength(10_000))),
  scope: s.Scope,
  /** Of files, or of messages. */
  ids: v.optional(s.Ids),
  /** Messages that match and are left out. */
  except: v.optional(s.Ids, []),
  /** Of messages, those that lots of the plan hold. Of files, those of lots that take files out which have no checked copy yet. */
  lots: v.optional(s.Ids),
});

export const saveFiles = route({
  method: 'POST',
  path: '/accounts/{account}/bags',
  summary:
    'Saves files, or whole messages, into a bag (RFC 8493). Send one of `where`, `ids` and `lots`. Nothing changes in the mailbox.',
  body: SaveFiles,
  status: 202,
  response: s.Bag,
  async handle({ environment: { database }, account, body }) {
    if ([body.where, body.ids, body.lots].filter((one) => one !== undefined).length !== 1)
      throw invalid('Say one of where, ids and lots.', [
        { field: 'where', expected: 'exactly one of where, ids and lots' },
      ]);
    if (body.what === 'mail' && body.place !== 'here')
      throw invalid('Mail in mbox files is saved on this machine.', [{ field: 'place', expected: 'here' }]);
    const criteria = body.where === undefined ? undefined : await readyCriteria(database, account, body.where);
    return transaction(database, async (client) => {
      const now = new Date();
      let files: Ranges;
      if (body.what !== 'files') {
        const named = criteria ?? { ids: body.ids ?? [] };
        const messages = body.lots
          ? await messagesOfLots(client, account.id, body.lots)
          : await messagesMatching(client, account, named, body.scope, now, body.except);
        files = rangesOf(messages.map((message) => fileId(message, WHOLE_MESSAGE)));
      } else if (body.lots) files = await uncheckedFilesOf(client, account.id, body.lots);
      else
        files = criteria ? await matchingFiles(client, account, criteria, body.scope, now) : rangesOf(body.ids ?? []);
      const id = await createBag(client, account.id, {
        label:
          body.label ??
          (body.lots && (await labelsOf(client, account.id, body.lots))) ??
          (body.where === undefined
            ? `${body.ids?.length ?? 0} chosen ${body.what}`
            : body.where.slice(0, MAX_LABEL) || `all ${body.what}`),
        form: body.what === 'mail' ? 'mbox' : 'files',
        place: body.place,
        folder: `${body.what}-${now.toISOString().slice(0, 10)}`,
        files,
      });
      const bag = (await bagById(client, account.id, id)) as Bag;
      if (bag.asked.files === 0)
        throw invalid('Nothing matches, so there is nothing to save.', [
          {
            field: body.lots ? 'lots' : body.where === undefined ? 'ids' : 'where',
            expected: `${body.what} that are there`,
          },
        ]);
      await enqueue(client, account.id, 'save', id);
      await tell(client, account.id, 'bag', bag);
      return shownBag(bag);
    });
  },
});

export const listBags = route({
  method: 'GET',
  path: '/accounts/{account}/bags',
  summary: 'Lists all bags, newest first.',
  response: v.object({ bags: v.array(s.Bag) }),
  async handle({ environment: { database }, account }) {
    const bags = await bagsOf(database, account.id);
    return { bags: await Promise.all(bags.map((bag) => shownNow(database, account.id, bag))) };
  },
});

export const getBag = route({
  method: 'GET',
  path: '/accounts/{account}/bags/{bag}',
  summary: 'Returns a bag and its progress.',
  response: s.Bag,
  handle: async ({ environment: { database }, account, parameters }) =>
    shownNow(database, account.id, await theBag(database, account, parameters.bag)),
});

export const listBagFiles = route({
  method: 'GET',
  path: '/accounts/{account}/bags/{bag}/files',
  summary: 'Lists the files of a bag in the order of their ids. `state=left` lists those that are not in it, and why.',
  query: v.object({
    state: v.optional(v.picklist(['saved', 'left']), 'saved'),
    limit: v.optional(s.wholeNumber(1, 1_000), '100'),
    after: v.optional(s.wholeNumber(0, Number.MAX_SAFE_INTEGER), '0'),
  }),
  response: v.object({ files: v.array(s.BagFile), next: v.optional(v.number()) }),
  async handle({ environment: { database }, account, parameters, query }) {
    const { id } = await theBag(database, account, parameters.bag);
    const page = [database, account.id, id, query.after, query.limit + 1] as const;
    const found =
      query.state === 'saved'
        ? (await savedFiles(...page)).map(({ placement: _, ...file }) => file)
        : await unsavedFiles(...page);
    const shown = found.slice(0, query.limit);
    const last = shown.at(-1);
    return { files: shown, ...(found.length > query.limit && last ? { next: last.file } : {}) };
  },
});

const steer = (verb: 'pause' | 'resume' | 'cancel', summary: string) =>
  route({
    method: 'POST',
    path: `/accounts/{account}/bags/{bag}/${verb}`,
    summary,
    status: 202,
    response: s.Bag,
    async handle({ environment: { database, archive }, account, parameters }) {
      return transaction(database, async (client) => {
        await lockRow(client, 'bag', account.id, Number(parameters.bag));
        const bag = await theBag(client, account, parameters.bag);
        isOfNoRun(bag);
        if (verb === 'cancel' && bag.state === 'receiving') {
          // Who sends octets waits for this row.
          await archive.upload(account.id, bag.folder).erase();
          await updateBag(client, account.id, bag.id, { state: 'cancelled' });
          return tellBag(client, account, bag.id);
        }
        const going = bag.state === 'queued' || bag.state === 'running' || bag.state === 'checking';
        const rests = bag.state === 'paused' || bag.state === 'failed';
        if (verb === 'resume' ? !rests : !(going || (verb === 'cancel' && rests)))
          throw conflict('wrong-state', `Bag ${bag.id} is ${bag.state}, so this can’t be done: ${verb}.`);
        const wanted = verb === 'resume' ? null : verb;
        await updateBag(client, account.id, bag.id, going ? { wanted } : { wanted, state: 'queued', attempts: 0 });
        // Who cancels what rests has the work end it, since files have to go.
        if (rests) await enqueue(client, account.id, bag.brought ? 'bring-in' : 'save', bag.id);
        return tellBag(client, account, bag.id);
      });
    },
  });

/** Tells of a bag as it is now, and shows it. */
async function tellBag(client: Queryable, account: Account, id: number) {
  const now = (await bagById(client, account.id, id)) as Bag;
  await tell(client, account.id, 'bag', now);
  return shownBag(now);
}

export const pauseBag = steer('pause', 'Pauses the saving of files. What was saved stays.');
export const resumeBag = steer('resume', 'Goes on with a bag that was paused or that failed.');
export const cancelBag = steer('cancel', 'Cancels the saving of files. A bag that is not whole is deleted.');

/** Files of a bag that one download holds. */
const MOST_ZIPPED = 200_000;

export const downloadBag = route({
  method: 'GET',
  path: '/accounts/{account}/bags/{bag}/download',
  summary:
    'Downloads a bag as a ZIP archive (ZIP64 where it has to be), with its manifests; or, with `path`, one file of it. A download of the archive that broke off goes on with `Range`.',
  query: v.object({ path: v.optional(v.pipe(v.string(), v.maxLength(1_000))) }),
  formats: ['application/zip', 'application/octet-stream'],
  also: { 206: { description: 'The octets that were asked for.' } },
  async handle({ environment: { database, archive }, account, parameters, query, request }) {
    const bag = await theBag(database, account, parameters.bag);
    const folder = archive.bag(account.id, bag.folder);
    if (bag.state !== 'done')
      throw conflict('wrong-state', `Bag ${bag.id} is ${bag.state}. Only a finished one can be downloaded.`);
    if (query.path !== undefined) return oneFile(database, account, bag, folder, query.path);
    const listed = await folder.contents(MOST_ZIPPED);
    if (!listed) throw conflict('bag-missing', `The files of bag ${bag.id} are not on this machine any more.`);
    const files = listed.map(({ path, from, size }) => ({
      path: `${bag.folder}/${path}`,
      size,
      read: () => createReadStream(from, { highWaterMark: 1024 * 1024 }),
    }));
    return zipAnswer(request, files, bag.folder, `${account.id}-${bag.id}-${bag.createdAt.getTime()}`);
  },
});

/** One file of a bag, its manifests among them. */
async function oneFile(db: Queryable, account: Account, bag: Bag, folder: BagFolder, path: string): Promise<Response> {
  const saved = path.startsWith('data/') && (await hasPath(db, account.id, bag.id, path.slice('data/'.length)));
  const found = saved || TAG_FILES.has(path) ? await folder.open(path) : undefined;
  if (!found) throw notFound();
  return new Response(Readable.toWeb(found.octets) as unknown as BodyInit, {
    headers: {
      'content-type': 'application/octet-stream',
      'content-length': `${found.size}`,
      'content-disposition': 'attachment',
    },
  });
}

export const checkBag = route({
  method: 'POST',
  path: '/accounts/{account}/bags/{bag}/check',
  summary:
    'Checks a copy of a bag that lies elsewhere: compares SHA-256 of its files with what was saved. Of a bag for a download, files that agree count as checked; of one that stays on this machine they have a copy elsewhere from then on.',
  body: v.object({
    files: v.pipe(
      v.array(
        v.object({
          path: v.pipe(v.string(), v.maxLength(1_000)),
          sha256: v.pipe(v.string(), v.regex(/^[0-9a-f]{64}$/, '64 hexadecimal digits')),
        }),
      ),
      v.maxLength(1_000),
    ),
  }),
  response: s.CopyCheck,
  async handle({ environment: { database }, account, parameters, body }) {
    return transaction(database, async (client) => {
      const bag = await theBag(client, account, parameters.bag);
      if (bag.state !== 'done')
        throw conflict('wrong-state', `Bag ${bag.id} is ${bag.state}. Only a finished one can be checked.`);
      const verdict = await checkHandedIn(client, account.id, bag, body.files);
      await tell(client, account.id, 'bag', await bagById(client, account.id, bag.id));
      return verdict;
    });
  },
});

/** A finished bag that stays on this machine. */
async function keptBag(db: Queryable, account: Account, id: string | undefined): Promise<Bag> {
  const bag = await theBag(db, account, id);
  if (bag.place !== 'here' || bag.state !== 'done')
    throw conflict('wrong-state', `Bag ${bag.id} is not a finished one that stays on this machine.`);
  return bag;
}

async function entryOf({ archive }: Environment, account: Account, bag: Bag): Promise<BagEntry> {
  const manifest = (await archive.bag(account.id, bag.folder).manifestDigest()) ?? null;
  return { bag: bag.id, label: bag.label, manifest, ...bag.saved };
}

export const holdBag = route({
  method: 'POST',
  path: '/accounts/{account}/bags/{bag}/hold',
  summary:
    'Holds a bag: nobody can delete it through Tamsel before a day, its files lose their write permission, and the ledger gets the SHA-256 of its manifest. A hold can be made longer, never shorter. Whoever runs the machine can still destroy what is on its disk.',
  body: v.object({ until: s.Day, reason: v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(500)) }),
  response: s.Bag,
  async handle({ environment, account, parameters, body }) {
    const { database, archive, vault } = environment;
    if (body.until <= new Date().toISOString().slice(0, 10) || body.until > LAST_DAY)
      throw invalid('A bag is held until a day to come.', [{ field: 'until', expected: `a day up to ${LAST_DAY}` }]);
    const bag = await transaction(database, async (client) => {
      await lockRow(client, 'bag', account.id, Number(parameters.bag));
      const found = await keptBag(client, account, parameters.bag);
      if (found.heldUntil !== null && body.until < found.heldUntil)
        throw conflict('bag-held', `Bag ${found.id} is held until ${found.heldUntil}. A hold can’t be made shorter.`);
      const entry = await entryOf(environment, account, found);
      if (entry.manifest === null)
        throw conflict('bag-missing', `The files of bag ${found.id} are not on this machine any more.`);
      await storeHold(client, account.id, found.id, body);
      await appendBagEntry(client, vault, account.id, 'bag-held', { ...entry, ...body });
      const now = (await bagById(client, account.id, found.id)) as Bag;
      await tell(client, account.id, 'bag', now);
      return now;
    });
    await archive.bag(account.id, bag.folder).protect();
    return shownBag(bag);
  },
});

/** The last day until which a bag can be held. */
const LAST_DAY = '2199-12-31';

export const readBag = route({
  method: 'POST',
  path: '/accounts/{account}/bags/{bag}/read',
  summary:
    'Has every octet of a bag read again, and compared with what was saved. Tamsel does this by itself every 30 days.',
  status: 202,
  response: s.Bag,
  async handle({ environment: { database }, account, parameters }) {
    return transaction(database, async (client) => {
      const { id } = await keptBag(client, account, parameters.bag);
      await askForReading(client, account.id, id);
      await enqueue(client, account.id, 'read-bag', id);
      const bag = (await bagById(client, account.id, id)) as Bag;
      await tell(client, account.id, 'bag', bag);
      return shownBag(bag);
    });
  },
});

export const listDamage = route({
  method: 'GET',
  path: '/accounts/{account}/bags/{bag}/damage',
  summary:
    'Lists what of a bag is not any more what was saved, and from where it can be repaired: another bag, the mailbox, the trash. What has no source needs a copy that is handed in.',
  query: v.object({
    limit: v.optional(s.wholeNumber(1, 1_000), '100'),
    after: v.optional(s.wholeNumber(0, Number.MAX_SAFE_INTEGER), '0'),
  }),
  response: v.object({ files: v.array(s.DamagedFile), next: v.optional(v.number()) }),
  async handle({ environment: { database }, account, parameters, query }) {
    const { id } = await keptBag(database, account, parameters.bag);
    const found = await damagedFiles(database, account.id, id, query.after, query.limit + 1);
    const folders = trashFolders(await foldersOf(database, account.id), account.settings.trashFolder);
    const trash = new Set(folders.map((folder) => folder.id));
    const files = found
      .slice(0, query.limit)
      .map(({ other, placements, from: _, part: __, encoding: ___, ...file }) => ({
        ...file,
        sources: [
          ...(other ? ['archive' as const] : []),
          ...(placements.some(({ folder }) => !trash.has(folder)) ? ['mailbox' as const] : []),
          ...(placements.some(({ folder }) => trash.has(folder)) ? ['trash' as const] : []),
        ],
      }));
    const last = files.at(-1);
    return { files, ...(found.length > query.limit && last ? { next: last.file } : {}) };
  },
});

export const repairBag = route({
  method: 'POST',
  path: '/accounts/{account}/bags/{bag}/repair',
  summary:
    'Repairs what is damaged of a bag from another bag, the mailbox or the trash. Only octets with the SHA-256 that was written down are taken.',
  status: 202,
  response: s.Bag,
  async handle({ environment: { database }, account, parameters }) {
    return transaction(database, async (client) => {
      const bag = await keptBag(client, account, parameters.bag);
      await enqueue(client, account.id, 'repair', bag.id);
      return shownBag(bag);
    });
  },
});

export const repairFromCopy = route({
  method: 'POST',
  path: '/accounts/{account}/bags/{bag}/damage/{file}',
  summary:
    'Repairs one damaged file or message of a bag from a copy: the octets of the file, or of an mbox file those from `at` on, `length` of them. They are taken only if they have the SHA-256 that was written down.',
  takesOctets: true,
  response: s.Bag,
  async handle({ environment, account, parameters, request }) {
    const { database, archive } = environment;
    const bag = await keptBag(database, account, parameters.bag);
    const damaged = await damagedFile(database, account.id, bag.id, Number(parameters.file));
    if (!damaged) throw notFound();
    const { size, length, at } = damaged;
    const line = fromLine(damaged.from, damaged.received);
    const given = octetsOf(request, length ?? size);
    const octets = at === null ? given : messageIn(given, size);
    const folder = archive.bag(account.id, bag.folder);
    if (!(await repairFile(folder, archive.scratch(), damaged, line, octets)))
      throw conflict('copy-differs', 'These are not the octets that were saved, so they were not taken.');
    return transaction(database, async (client) => {
      await noteRepaired(client, account.id, bag.id, damaged.file);
      const now = (await bagById(client, account.id, bag.id)) as Bag;
      await tell(client, account.id, 'bag', now);
      await tell(client, account.id, 'level', {});
      return shownBag(now);
    });
  },
});

export const deleteBag = route({
  method: 'DELETE',
  path: '/accounts/{account}/bags/{bag}',
  summary:
    'Deletes the files of a bag from this machine. One that stays here needs a confirmation of who you are. Copies elsewhere stay.',
  status: 204,
  async handle({ environment, identity, account, parameters }) {
    const { database, archive } = environment;
    await transaction(database, async (client) => {
      await lockRow(client, 'bag', account.id, Number(parameters.bag));
      const bag = await theBag(client, account, parameters.bag);
      isOfNoRun(bag);
      if (await isHeld(client, account.id, bag.id))
        throw conflict(
          'bag-held',
          `Bag ${bag.id} is held until ${bag.heldUntil}: ${bag.heldReason}. Nobody can delete it before.`,
        );
      const open = await openPutBackOf(client, account.id, bag.id);
      if (open !== undefined)
        throw conflict(
          'bag-of-run',
          `Run ${open} puts messages of bag ${bag.id} back. Wait for its end, or cancel it.`,
        );
      if (bag.state !== 'done' && bag.state !== 'cancelled' && bag.state !== 'erased')
        throw conflict('wrong-state', `Bag ${bag.id} is ${bag.state}. Cancel it first.`);
      // One that was cancelled while it was read back is whole.
      if (bag.place === 'here' && bag.saved.files > 0) await wantProof(client, environment, identity, account);
      await updateBag(client, account.id, bag.id, { state: 'erased' });
      await dropArchived(client, account.id, bag.id);
      await forgetBrought(client, account.id, bag.id);
      if (bag.place === 'here' && bag.state !== 'erased' && bag.saved.files > 0)
        await appendBagEntry(
          client,
          environment.vault,
          account.id,
          'bag-erased',
          await entryOf(environment, account, bag),
        );
      await tell(client, account.id, 'bag', await bagById(client, account.id, bag.id));
    });
    const bag = await theBag(database, account, parameters.bag);
    await archive.upload(account.id, bag.folder).erase();
    await archive.bag(account.id, bag.folder).erase();
  },
});
