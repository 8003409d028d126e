import * as v from 'valibot';
import * as clock from '../../clock/clock';
import * as s from '../../contract/schemas';
import type { Amount } from '../../core/level/level';
import { withSubfolders } from '../../core/mailbox/folders';
import { FATES, isOfFiles } from '../../core/plan/fates';
import { csvLine } from '../../core/sheets/line';
import { begin, giveBagTo, trashProblem } from '../../jobs/run/begin';
import { resume } from '../../jobs/run/resume';
import type { Account } from '../../store/access/accounts';
import { archivedIds, archivedOfBag, archivedPlaces } from '../../store/archive/archived';
import { lockRow, type Queryable, snapshot, transaction } from '../../store/database';
import { tell } from '../../store/events';
import { foldersOf } from '../../store/index/folders';
import { messagesOfRun, type RunMessage } from '../../store/index/messages';
import type { Scope } from '../../store/index/selection';
import { carriedLots, planLot } from '../../store/plan/lots';
import { brokenPromises, countOfBroken, PROMISES_OF_FILES, PROMISES_OF_MESSAGES } from '../../store/plan/promises';
import { freeze, type RunSelector } from '../../store/runs/frozen';
import { asWritten } from '../../store/runs/ledger-entries';
import { freezePutBack, leftPutBacks, outcomesOfPutBacks, placementsPutBack } from '../../store/runs/put-backs';
import { giveFiles, giveFilesOfRun, overrideGuards } from '../../store/runs/rewrites';
import { bringsToTrash, createRun, handLots, type Run, runById, runsOf, updateRun } from '../../store/runs/runs';
import { allOfArchive } from '../archive-search';
import { criteriaFrom, readyCriteria } from '../criteria';
import type { Environment } from '../environment';
import type { Identity } from '../identity';
import { waitsOf } from '../job-waits';
import { conflict, invalid, notFound } from '../problem';
import { wantProof } from '../proof';
import { route } from '../route';
import { NOT_IN_MAILBOX } from './archive';

/** A run as the API tells it. */
export function shownRun({
  problem,
  doing,
  startedAt,
  endedAt,
  attempts: _,
  fallback: __,
  wanted: ___,
  freshFrom: ____,
  handsOver: _____,
  ...run
}: Run) {
  return {
    ...run,
    ...(problem ? { problem } : {}),
    ...(doing ? { doing } : {}),
    ...(startedAt ? { startedAt } : {}),
    ...(endedAt ? { endedAt } : {}),
  };
}

async function shownNow(db: Queryable, account: number, run: Run) {
  return { ...shownRun(run), ...(await waitsOf(db, account, 'run', run)) };
}

const StartRun = v.object({
  /** `put-back`: messages of the archive; `where`, `ids` and `bag` name them there. */
  action: v.picklist([...FATES, 'restore', 'put-back']),
  label: v.optional(s.Label),
  lots: v.optional(s.Ids),
  where: v.optional(v.pipe(v.string(), v.maxLength(10_000))),
  ids: v.optional(s.Ids),
  folder: v.optional(v.string()),
  /** With `folder`: what lies below it too. */
  subfolders: v.optional(v.boolean()),
  run: v.optional(v.pipe(v.number(), v.integer())),
  /** All messages of a bag, for `put-back`. */
  bag: v.optional(v.pipe(v.number(), v.integer(), v.minValue(1))),
  /** The account whose archive they are put back from, where it is another of the session. */
  from: v.optional(v.pipe(v.number(), v.integer(), v.minValue(1))),
  /** What that run left. */
  rest: v.optional(v.pipe(v.number(), v.integer())),
  to: v.optional(v.string()),
  /** Only what went into its folder before this instant. */
  before: v.optional(s.Timestamp),
  /** Only what was there, and as it was, at this version of the index: when the question was shown. */
  asOf: v.optional(v.pipe(v.number(), v.integer())),
  /** The same messages in every other folder of the scope too. */
  copies: v.optional(v.boolean()),
  /** What it has to touch, else nothing is begun. */
  expect: v.optional(
    v.object({
      messages: v.pipe(v.number(), v.integer(), v.minValue(0)),
      bytes: v.optional(v.pipe(v.number(), v.integer(), v.minValue(0))),
    }),
  ),
});

type StartRun = v.InferOutput<typeof StartRun>;

const SELECTORS = ['lots', 'where', 'ids', 'folder', 'run', 'rest', 'bag'] as const;

/** A run that is ready to be frozen: what it is called, how its set is named, and where that set may lie. */
interface Intent {
  label: string;
  selector: RunSelector;
  stored: Record<string, unknown>;
  scope: Scope;
  lots: number[];
}

async function intentOf(db: Queryable, account: Account, body: StartRun): Promise<Intent> {
  const given = SELECTORS.filter((name) => body[name] !== undefined);
  if (given.length !== 1)
    throw invalid('Say exactly one of lots, where, ids, folder, run, rest and bag.', [
      { field: 'lots', expected: 'exactly one selector' },
    ]);
  if (body.bag !== undefined || body.from !== undefined)
    throw invalid('A bag, and another account, are named by what is put back from the archive.', [
      { field: 'action', expected: 'put-back' },
    ]);
  const scope: Scope = bringsToTrash(body) ? 'mail' : 'trash';
  if (isOfFiles(body.action) && !body.lots && body.rest === undefined)
    throw invalid('Files are taken out, and made smaller, by lots. Say lots, or rest of such a run.', [
      { field: 'lots', expected: `numbers of lots for the fate ${body.action}` },
    ]);
  if (body.lots) return lotsIntent(db, account, body, body.lots);
  if (body.where !== undefined) {
    return {
      label: body.label ?? (body.where || 'everything'),
      selector: { where: criteriaFrom(body.where), text: body.where },
      stored: { where: body.where },
      scope,
      lots: [],
    };
  }
  if (body.ids) {
    return {
      label: body.label ?? `${body.ids.length} chosen messages`,
      selector: { ids: body.ids },
      stored: { ids: body.ids.length },
      scope,
      lots: [],
    };
  }
  if (body.folder !== undefined) {
    const folders = await foldersOf(db, account.id);
    const folder = folders.find(({ path }) => path === body.folder);
    if (!folder) throw invalid('There is no such folder.', [{ field: 'folder', expected: 'the path of a folder' }]);
    if (folder.repeats)
      throw conflict('repeated-view', `${folder.path} repeats mail that lies in other folders. Work on those.`);
    const named = body.subfolders ? withSubfolders(folders, folder.path) : [folder];
    return {
      label: body.label ?? folder.path,
      selector: { folders: named.map(({ id }) => id) },
      stored: { folder: folder.path, ...(body.subfolders ? { subfolders: true } : {}) },
      scope: body.action === 'restore' ? 'trash' : bringsToTrash(body) ? 'mail' : 'all',
      lots: [],
    };
  }
  if (body.rest !== undefined) {
    const before = await runById(db, account.id, body.rest);
    // What could not be saved in the archive is not to go without that.
    if (before && before.action !== body.action && (savesFirst(before.action) || savesFirst(body.action)))
      throw conflict('other-fate', `Run ${before.id} was for another action: ${before.action}.`);
    if (!before) throw invalid('There is no such run.', [{ field: 'rest', expected: 'the number of a run' }]);
    return {
      label: body.label ?? `rest of run ${before.id}: ${before.label}`,
      selector: { rest: before.id },
      stored: { rest: before.id },
      scope: body.action === 'purge' && 'lots' in before.selector ? 'all' : scope,
      lots: [],
    };
  }
  const other = await runById(db, account.id, body.run ?? 0);
  // Undone is what was put back by bringing it to the trash.
  if (other?.action === 'put-back') {
    if (body.action !== 'trash')
      throw conflict('other-fate', `What run ${other.id} put back can be moved to the trash.`);
    return {
      label: body.label ?? `run ${other.id}: ${other.label}`,
      selector: { ids: await placementsPutBack(db, account.id, other.id) },
      stored: { run: other.id },
      scope: 'mail',
      lots: [],
    };
  }
  if (!other) throw invalid('There is no such run.', [{ field: 'run', expected: 'the number of a run' }]);
  return {
    label: body.label ?? `run ${other.id}: ${other.label}`,
    selector: { run: other.id },
    stored: { run: other.id },
    scope,
    lots: [],
  };
}

async function lotsIntent(db: Queryable, account: Account, body: StartRun, ids: number[]): Promise<Intent> {
  const carried = await carriedLots(db, account.id, ids);
  if (carried.length > 0 && carried.length === ids.length && !bringsToTrash(body)) {
    return {
      label: body.label ?? carried.map(({ label }) => label).join(', '),
      selector: { carried: ids },
      stored: { lots: ids, named: carried.map(({ label, where }) => ({ label, where })) },
      scope: 'trash',
      lots: [],
    };
  }
  if (body.action === 'restore')
    throw invalid('Only lots that have been carried out can be restored.', [
      { field: 'lots', expected: 'numbers of lots that were carried out' },
    ]);
  const lots = [];
  for (const id of ids) {
    const lot = await planLot(db, account.id, id);
    if (!lot)
      throw invalid('There is no such lot in the plan.', [{ field: 'lots', expected: 'numbers of lots in the plan' }]);
    if (lot.fate !== body.action)
      throw conflict('other-fate', `The lot “${lot.label}” is for another action: ${lot.fate}.`);
    lots.push(lot);
  }
  if (new Set(lots.map(({ shrinking }) => JSON.stringify(shrinking))).size > 1)
    throw conflict('other-fate', 'These lots make pictures smaller in different ways. Carry them out one by one.');
  if (lots.length === 0)
    throw invalid('There is no lot to carry out.', [{ field: 'lots', expected: 'at least one lot' }]);
  // A lot whose fate is the purge may lie anywhere: that was asked for by itself when it was marked.
  return {
    label: body.label ?? lots.map(({ label }) => label).join(', '),
    selector: { lots: ids },
    stored: { lots: ids, named: lots.map(({ label, where }) => ({ label, where })) },
    scope: bringsToTrash(body) ? 'mail' : 'all',
    lots: ids,
  };
}

function checkExpected(expected: StartRun['expect'], found: Amount): void {
  if (!expected) return;
  const { messages, bytes = found.bytes } = expected;
  if (messages !== found.messages || bytes !== found.bytes) {
    throw conflict(
      'not-as-expected',
      `This would affect ${found.messages} messages of ${found.bytes} octets, not ${messages} of ${bytes}. Check again.`,
    );
  }
}

/** Who asks for a run, and how. */
export function askerOf({ user }: Account, identity: Identity | undefined): Run['askedBy'] {
  return {
    user,
    ...(identity?.token === undefined ? { via: 'page' } : { via: 'script', token: identity.token }),
  };
}

/** Starts a run that puts messages of an archive back. */
async function startPutBack(
  environment: Environment,
  account: Account,
  identity: Identity | undefined,
  body: StartRun,
): Promise<ReturnType<typeof shownRun>> {
  const { database } = environment;
  const given = (['where', 'ids', 'bag', 'rest'] as const).filter((name) => body[name] !== undefined);
  if (given.length !== 1)
    throw invalid('Say exactly one of where, ids, bag and rest of what is put back.', [
      { field: 'where', expected: 'exactly one selector of the archive' },
    ]);
  const source =
    body.from === undefined || body.from === account.id
      ? account
      : identity?.accounts.find(({ id }) => id === body.from);
  if (!source) throw invalid('There is no such account in this session.', [{ field: 'from', expected: 'an account' }]);
  const found =
    body.where === undefined
      ? undefined
      : await archivedIds(database, await allOfArchive(environment, source, body.where));
  const run = await transaction(database, async (client) => {
    const folders = await foldersOf(client, account.id);
    const to = body.to === undefined ? null : folders.find(({ path, repeats }) => path === body.to && !repeats)?.id;
    if (to === undefined)
      throw invalid('There is no such folder.', [{ field: 'to', expected: 'the path of a folder' }]);
    const ids =
      found ??
      body.ids ??
      (body.bag === undefined
        ? await leftPutBacks(client, account.id, body.rest ?? 0)
        : await archivedOfBag(client, source.id, body.bag));
    const before = body.rest === undefined ? undefined : await runById(client, account.id, body.rest);
    const id = await createRun(client, account.id, {
      action: 'put-back',
      label:
        body.label ??
        before?.label ??
        (body.where !== undefined
          ? body.where || 'everything'
          : body.bag
            ? `bag ${body.bag}`
            : `${ids.length} chosen messages`),
      selector:
        body.where !== undefined
          ? { archive: body.where }
          : body.bag !== undefined
            ? { bag: body.bag }
            : body.rest !== undefined
              ? { rest: body.rest }
              : { archived: ids.length },
      fallback: to ?? before?.fallback ?? null,
      askedBy: askerOf(account, identity),
    });
    const { digest, ...asked } = await freezePutBack(client, account.id, id, before?.archiveOf ?? source.id, ids);
    checkExpected(body.expect, asked);
    if (asked.messages === 0) throw conflict('nothing-to-do', 'There are no messages to do this to.');
    return begin(client, environment.vault, account.id, id, { asked, digest });
  });
  return shownRun(run);
}

/** Whether messages, or files of them, have to be saved before a run does anything to them. */
function savesFirst(action: Run['action']): boolean {
  return action === 'archive' || isOfFiles(action);
}

/** Refuses a plan whose lots would take the last of what they promised that another one stays of. */
async function keepPromises(db: Queryable, account: Account, action: Run['action']): Promise<void> {
  const made = isOfFiles(action) ? PROMISES_OF_FILES : PROMISES_OF_MESSAGES;
  const broken = countOfBroken(await brokenPromises(db, account, made));
  if (broken > 0)
    throw conflict(
      'would-take-last',
      `The plan would take the last copy of ${broken === 1 ? '1 message or file' : `${broken} messages or files`}: the one that was to stay has gone, or is in the plan too. Tell them apart again on the Repeats page, and check.`,
    );
}

export const startRun = route({
  method: 'POST',
  path: '/accounts/{account}/runs',
  summary: 'Starts a run: it freezes a set of messages, and carries out one action on exactly these.',
  body: StartRun,
  status: 202,
  response: s.Run,
  async handle({ environment, account, identity, body }) {
    if (body.action === 'put-back') return startPutBack(environment, account, identity, body);
    if (body.where !== undefined) await readyCriteria(environment.database, account, body.where);
    const run = await transaction(environment.database, async (client) => {
      const folders = await foldersOf(client, account.id);
      const problem = trashProblem(folders, account, body.action);
      if (problem) throw conflict(problem.kind, problem.detail);
      const fallback =
        body.to === undefined ? null : folders.find(({ path, repeats }) => path === body.to && !repeats)?.id;
      if (fallback === undefined)
        throw invalid('There is no such folder.', [{ field: 'to', expected: 'the path of a folder' }]);
      const intent = await intentOf(client, account, body);
      if (intent.lots.length > 0) await keepPromises(client, account, body.action);
      const isUndone = body.run !== undefined && body.action === 'trash' && 'ids' in intent.selector;
      const id = await createRun(client, account.id, {
        action: body.action,
        label: intent.label,
        selector: intent.stored,
        fallback,
        askedBy: askerOf(account, identity),
      });
      const { digest, ...asked } = await freeze(client, account, id, intent.selector, intent.scope, clock.now(), {
        asOf: body.asOf,
        placedBefore: body.before === undefined ? undefined : new Date(body.before),
        copies: body.copies,
      });
      checkExpected(body.expect, asked);
      if (body.action === 'purge' && asked.messages > environment.limits.purgedUnasked)
        await wantProof(client, environment, identity, account);
      if (asked.messages === 0) throw conflict('nothing-to-do', 'There are no messages to do this to.');
      if (isOfFiles(body.action) && intent.lots.length > 0) await giveFiles(client, account.id, id, intent.lots);
      if (isOfFiles(body.action) && body.rest !== undefined) await giveFilesOfRun(client, account.id, id, body.rest);
      if (body.action === 'archive') await giveBagTo(client, account.id, id, intent.label);
      await handLots(client, account.id, id, intent.lots);
      // Whoever undoes it means all of it, flagged or not: the archive has it.
      if (isUndone) await overrideGuards(client, account.id, id);
      return begin(client, environment.vault, account.id, id, { asked, digest });
    });
    const { id, action, asked, askedBy } = run;
    environment.log.info({ account: account.id, run: id, action, asked, via: askedBy.via }, 'a run was asked for');
    return shownRun(run);
  },
});

export const listRuns = route({
  method: 'GET',
  path: '/accounts/{account}/runs',
  summary: 'Lists all runs, newest first. This is the ledger.',
  response: v.object({ runs: v.array(s.Run) }),
  async handle({ environment: { database, vault }, account }) {
    const runs = await snapshot(database, async (client) =>
      asWritten(client, vault, account.id, await runsOf(client, account.id)),
    );
    return { runs: await Promise.all(runs.map((run) => shownNow(database, account.id, run))) };
  },
});

export const getRun = route({
  method: 'GET',
  path: '/accounts/{account}/runs/{run}',
  summary: 'Returns a run and its progress.',
  response: s.Run,
  async handle({ environment, account, parameters }) {
    const { database, vault } = environment;
    const id = Number(parameters.run);
    const [run] = await snapshot(database, async (client) => {
      const found = await runById(client, account.id, id);
      return asWritten(client, vault, account.id, found ? [found] : [], id);
    });
    if (!run) throw notFound();
    return shownNow(database, account.id, run);
  },
});

/** What may be wanted of a run, in which states, and what is done at once where no worker is on it. */
const steer = (verb: 'pause' | 'resume' | 'cancel', summary: string) =>
  route({
    method: 'POST',
    path: `/accounts/{account}/runs/{run}/${verb}`,
    summary,
    status: 202,
    response: s.Run,
    async handle({ environment, account, parameters }) {
      const id = Number(parameters.run);
      return transaction(environment.database, async (client) => {
        await lockRow(client, 'run', account.id, id);
        const run = await runById(client, account.id, id);
        if (!run) throw notFound();
        const going = run.state === 'queued' || run.state === 'running';
        const resumable = run.state === 'paused' || run.state === 'failed';
        if (verb === 'resume' ? !resumable : !(going || (verb === 'cancel' && resumable))) {
          throw conflict(
            'wrong-state',
            `Run ${id} is ${run.state}, so it can’t be ${verb === 'pause' ? 'paused' : verb === 'resume' ? 'resumed' : 'cancelled'}.`,
          );
        }
        if (going) {
          await updateRun(client, account.id, id, { wanted: verb === 'pause' ? 'pause' : 'cancel' });
          await tell(client, account.id, 'run', await runById(client, account.id, id));
          // Cancelling what stands still goes through the worker too: a batch may have to be settled first.
        } else await resume(client, account.id, id, verb === 'cancel' ? 'cancel' : null);
        return shownRun((await runById(client, account.id, id)) as Run);
      });
    },
  });

export const pauseRun = steer('pause', 'Pauses a run after the current batch.');
export const resumeRun = steer('resume', 'Resumes a run that was paused or has failed.');
export const cancelRun = steer('cancel', 'Cancels a run after the current batch. What was done stays in the ledger.');

const PAGE = 2_000;

export const listRunMessages = route({
  method: 'GET',
  path: '/accounts/{account}/runs/{run}/messages',
  summary:
    'Lists every message of a run with its outcome, as JSON, CSV (RFC 4180) or JSON Lines. `Accept` or `format` chooses which.',
  query: v.object({ format: v.optional(v.picklist(['json', 'jsonl', 'csv'])) }),
  response: v.array(
    v.object({ ...s.Message.entries, messageId: v.string(), uidValidity: v.number(), outcome: v.string() }),
  ),
  formats: ['application/jsonl', 'text/csv'],
  async handle({ environment, account, parameters, request, query }) {
    const { database } = environment;
    const id = Number(parameters.run);
    const run = await runById(database, account.id, id);
    if (!run) throw notFound();
    const accept = request.headers.get('accept') ?? '';
    const format =
      FORMATS.find(({ type, extension }) => (query.format ? extension === query.format : accept.includes(type))) ??
      JSON_ARRAY;
    const encoder = new TextEncoder();
    let after = 0;
    let first = true;
    const body = new ReadableStream({
      async pull(controller) {
        if (first) controller.enqueue(encoder.encode(format.head));
        const page = await pageOfRun(database, account.id, run, after);
        const lines = page
          .map((message, index) => (first && index === 0 ? '' : format.between) + format.line(message))
          .join('');
        controller.enqueue(encoder.encode(lines));
        first = first && page.length === 0;
        after = page.at(-1)?.id ?? after;
        if (page.length < PAGE) {
          controller.enqueue(encoder.encode(format.tail));
          controller.close();
        }
      },
    });
    return new Response(body, {
      headers: {
        'content-type': format.type,
        'content-disposition': `attachment; filename="run-${id}.${format.extension}"`,
      },
    });
  },
});

/** Messages of a run with their outcomes; those that are put back, as they are in the archive. */
async function pageOfRun(db: Queryable, account: number, run: Run, after: number): Promise<RunMessage[]> {
  if (run.action !== 'put-back') return messagesOfRun(db, account, run.id, after, PAGE);
  const outcomes = await outcomesOfPutBacks(db, account, run.id, after, PAGE);
  const archived = await archivedPlaces(
    db,
    run.archiveOf ?? account,
    outcomes.map(({ id }) => id),
  );
  return archived.map(
    ({ bagFolder: _, path: __, at: ___, length: ____, sha256: _____, to: ______, ...message }, index) => ({
      ...message,
      ...NOT_IN_MAILBOX,
      uidValidity: 0,
      outcome: outcomes[index]?.outcome ?? 'waiting',
    }),
  );
}

interface Format {
  type: string;
  extension: string;
  head: string;
  between: string;
  tail: string;
  line(message: RunMessage): string;
}

const JSON_ARRAY: Format = {
  type: 'application/json',
  extension: 'json',
  head: '[',
  between: ',',
  tail: ']',
  line: (message) => JSON.stringify(message),
};

const FORMATS: Format[] = [
  {
    type: 'application/jsonl',
    extension: 'jsonl',
    head: '',
    between: '\n',
    tail: '\n',
    line: (message) => JSON.stringify(message),
  },
  {
    type: 'text/csv',
    extension: 'csv',
    head: 'id,folder,uidvalidity,uid,message-id,received,size,from,subject,outcome\r\n',
    between: '\r\n',
    tail: '\r\n',
    line: (message) =>
      csvLine([
        message.id,
        message.folder,
        message.uidValidity,
        message.uid,
        message.messageId,
        message.received.toISOString(),
        message.size,
        message.from?.address ?? '',
        message.subject,
        message.outcome,
      ]),
  },
];
