import * as v from 'valibot';
import { Run as ShownRun, wholeNumber } from '../../../contract/schemas';
import * as s from '../../../contract/space';
import { shownPath } from '../../../core/space/path';
import { begin } from '../../../jobs/run/begin';
import type { Account } from '../../../store/access/accounts';
import { type Queryable, transaction } from '../../../store/database';
import { fileLotById } from '../../../store/plan/file-lots';
import { brokenMailCopies } from '../../../store/plan/file-promises';
import { brokenPromises, countOfBroken } from '../../../store/plan/promises';
import { brokenSpacePictures } from '../../../store/plan/space-pictures';
import { type FileSelector, freezeFiles, outcomesOfFiles, shrinkAs } from '../../../store/runs/file-runs';
import { createRun, handLots, type Run, runById } from '../../../store/runs/runs';
import { type FileSpace, spaceById } from '../../../store/space/spaces';
import { spaceTrashGroups, trashOf } from '../../../store/space/trash';
import { conflict, invalid, notFound } from '../../problem';
import { wantProof } from '../../proof';
import { route } from '../../route';
import { askerOf, shownRun } from '../runs';
import { theSpace } from './the-space';

type NewFileRun = v.InferOutput<typeof s.NewFileRun>;

interface Intent {
  label: string;
  selector: FileSelector;
  stored: Record<string, unknown>;
  where: Parameters<typeof freezeFiles>[5];
  lots: number[];
}

const SELECTORS = ['lots', 'run', 'rest', 'trash'] as const;

async function intentOf(db: Queryable, account: Account, space: FileSpace, body: NewFileRun): Promise<Intent> {
  if (SELECTORS.filter((name) => body[name] !== undefined).length !== 1)
    throw invalid('Say exactly one of lots, run, rest and trash.', [
      { field: 'lots', expected: 'exactly one selector' },
    ]);
  const { action } = body;
  const where = action === 'trash' || action === 'shrink' ? 'outside the trash' : 'in the trash';
  if (body.lots) {
    if (action === 'restore') throw invalid('Say which run is undone.', [{ field: 'run', expected: 'a run' }]);
    const lots = [];
    for (const id of body.lots) {
      const lot = await fileLotById(db, account.id, id);
      if (lot?.space !== space.id)
        throw invalid('There is no such lot in the plan.', [{ field: 'lots', expected: 'lots of this file space' }]);
      if (lot.fate !== action)
        throw conflict('other-fate', `The lot “${lot.label}” is for another action: ${lot.fate}.`);
      lots.push(lot);
    }
    if (new Set(lots.map(({ shrinking }) => JSON.stringify(shrinking))).size > 1)
      throw conflict('other-fate', 'These lots make pictures smaller in different ways. Carry them out one by one.');
    const label = lots.map((lot) => lot.label).join(', ');
    return {
      label,
      selector: { lots: body.lots },
      stored: { lots: body.lots, named: lots.map((lot) => ({ label: lot.label, where: null })) },
      // A lot that is deleted at once was marked for that.
      where: action === 'purge' ? 'anywhere' : where,
      lots: body.lots,
    };
  }
  if (body.trash) {
    if (action !== 'purge')
      throw invalid('All that lies in the trash can be purged.', [{ field: 'action', expected: 'purge' }]);
    return { label: 'Trash of the file space', selector: { trash: true }, stored: { trash: true }, where, lots: [] };
  }
  const before = await runById(db, account.id, body.run ?? body.rest ?? 0);
  if (before?.space !== space.id)
    throw invalid('There is no such run.', [
      { field: body.run === undefined ? 'rest' : 'run', expected: 'a run of this file space' },
    ]);
  if (body.rest !== undefined) {
    if (before.action !== action)
      throw conflict('other-fate', `Run ${before.id} was for another action: ${before.action}.`);
    return {
      label: `rest of run ${before.id}: ${before.label}`,
      selector: { rest: before.id },
      stored: { rest: before.id },
      where: action === 'purge' && 'lots' in before.selector ? 'anywhere' : where,
      lots: [],
    };
  }
  if (where === 'outside the trash')
    throw invalid('Say lots, or rest.', [{ field: 'lots', expected: 'lots of this file space' }]);
  return {
    label: `run ${before.id}: ${before.label}`,
    selector: { brought: before.id },
    stored: { run: before.id },
    where,
    lots: [],
  };
}

export const startFileRun = route({
  method: 'POST',
  path: '/accounts/{account}/spaces/{space}/runs',
  summary:
    'Starts a run on files: it freezes a set of them, and moves exactly these to the trash of the file space (`trash`), back from there (`restore`), deletes them (`purge`), or puts smaller pictures in their places and the originals into the trash (`shrink`).',
  body: s.NewFileRun,
  status: 202,
  response: ShownRun,
  async handle({ environment, account, identity, parameters, body }) {
    const run = await transaction(environment.database, async (client) => {
      const space = await theSpace(client, account, parameters.space);
      const { label, selector, stored, where, lots } = await intentOf(client, account, space, body);
      const id = await createRun(client, account.id, {
        action: body.action,
        label: body.label ?? label.slice(0, 200),
        selector: { ...stored, space: space.id },
        fallback: null,
        askedBy: askerOf(account, identity),
      });
      if (body.action === 'shrink')
        await shrinkAs(client, account.id, id, body.rest === undefined ? { lots } : { run: body.rest });
      const broken = await brokenSpacePictures(client, account.id, lots);
      if (broken > 0)
        throw conflict(
          'would-take-last',
          `The plan would take the last of ${broken === 1 ? 'a picture' : `${broken} pictures`} nearly alike: the one that was to stay has gone, or is in the plan too. Remove the lot, and look at the series again.`,
        );
      const unkept = await brokenMailCopies(client, account, lots);
      if (unkept > 0)
        throw conflict(
          'would-take-last',
          `The plan would take the last of ${unkept === 1 ? 'a file' : `${unkept} files`}: the message that was to keep ${unkept === 1 ? 'it' : 'them'} has gone, or is in the plan too. Remove one of the lots.`,
        );
      const relied = lots.length === 0 ? 0 : countOfBroken(await brokenPromises(client, account, ['spaces']));
      if (relied > 0)
        throw conflict(
          'would-take-last',
          `The plan also takes ${relied === 1 ? 'a file' : `${relied} files`} out of messages because the file space has ${relied === 1 ? 'it' : 'them'}. Carry that out first, or remove one of the lots.`,
        );
      const trash = await trashOf(client, account.id, space);
      const { digest, ...asked } = await freezeFiles(client, account.id, id, space.id, selector, where, trash);
      checkExpected(body.expect, asked);
      if (body.action === 'purge' && asked.messages > environment.limits.purgedUnasked)
        await wantProof(client, environment, identity, account);
      if (asked.messages === 0) throw conflict('nothing-to-do', 'There are no files to do this to.');
      await handLots(client, account.id, id, lots);
      return begin(client, environment.vault, account.id, id, { asked, digest });
    });
    const { id, action, asked, askedBy } = run;
    environment.log.info({ account: account.id, run: id, action, asked, via: askedBy.via }, 'a run was asked for');
    return shownRun(run);
  },
});

function checkExpected(expected: NewFileRun['expect'], found: Run['asked']): void {
  if (!expected) return;
  const { files, bytes = found.bytes } = expected;
  if (files !== found.messages || bytes !== found.bytes)
    throw conflict(
      'not-as-expected',
      `This would affect ${found.messages} files of ${found.bytes} octets, not ${files} of ${bytes}. Check again.`,
    );
}

export const listFilesOfRun = route({
  method: 'GET',
  path: '/accounts/{account}/runs/{run}/files',
  summary: 'Lists the files of a run on a file space, with what became of each, a page at a time.',
  query: v.object({
    limit: v.optional(wholeNumber(1, 1_000), '100'),
    after: v.optional(wholeNumber(0, 2 ** 53 - 1), '0'),
  }),
  response: v.object({ files: v.array(s.FileOutcome), next: v.optional(v.number()) }),
  async handle({ environment: { database }, account, parameters, query }) {
    const run = await runById(database, account.id, Number(parameters.run));
    if (!run) throw notFound();
    const root = run.space === null ? undefined : (await spaceById(database, account.id, run.space))?.root;
    const found = await outcomesOfFiles(database, account.id, run.id, query.after, query.limit + 1);
    const files = found.slice(0, query.limit);
    const next = found.length > query.limit ? files.at(-1)?.id : undefined;
    return {
      files: files.map((file) => ({ ...file, path: shownPath(file.path, root ?? '/') })),
      ...(next === undefined ? {} : { next }),
    };
  },
});

export const getSpaceTrash = route({
  method: 'GET',
  path: '/accounts/{account}/spaces/{space}/trash',
  summary: 'Returns what lies in the trash of a file space, by the run that moved it there.',
  response: s.SpaceTrash,
  async handle({ environment: { database }, account, parameters }) {
    const space = await theSpace(database, account, parameters.space);
    const trash = await trashOf(database, account.id, space);
    return {
      folder: trash === null ? null : shownPath(trash, space.root),
      groups: trash === null ? [] : await spaceTrashGroups(database, account.id, space.id, trash),
    };
  },
});
