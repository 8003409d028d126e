import { numbersOf } from '../../../core/sets/ranges';
import type { DavClient, Watch } from '../../../dav/client';
import { askSpace } from '../../../dav/listing';
import type { SpaceProblem } from '../../../dav/problem';
import type { MailServer } from '../../../mail/server';
import type { Account } from '../../../store/access/accounts';
import type { Queryable } from '../../../store/database';
import { tell } from '../../../store/events';
import { enqueue, type Job } from '../../../store/jobs';
import { leaveFiles, pendingFiles, sentFiles } from '../../../store/runs/file-runs';
import {
  addWorked,
  type LeftReason,
  noteRefusal,
  type Run,
  type RunPhase,
  runById,
  updateRun,
} from '../../../store/runs/runs';
import { noteFigures, noteGone } from '../../../store/space/listing';
import { beginListing, type FileSpace, spaceById, updateSpace } from '../../../store/space/spaces';
import type { Turn, WorkContext } from '../../context';
import { type Fence, fenceOf } from '../../fence';
import { openSpace } from '../../space/sign-in';
import { quotaSnapshot, writeEnd } from '../conclude';
import type { RunOutcome } from '../run';
import { MovingFiles } from './moving-files';
import { ShrinkingPictures } from './shrinking-pictures';
import { StayingMail } from './staying-mail';

/** Milliseconds between two announcements of what is done. */
const ANNOUNCED_MS = 400;

/** Reasons that show that others changed something there: it is listed again. */
const BEHIND = new Set<LeftReason>(['vanished', 'changed', 'there', 'unknown', 'folder-gone']);

/**
 * Carries out a run on exactly the files of a file space that were frozen for it: moves them to its trash, back from there, or deletes
 * them.
 *
 * Each is looked at first, and left where it is not as it was. What is sent is written down before, and closed when it is known what
 * became of it; of what was not closed that is found out first, by what lies where.
 */
export async function carryOutFiles(
  context: WorkContext,
  job: Job,
  account: Account,
  run: Run,
  signIn: () => Promise<MailServer>,
  turn: Turn,
  watch: Watch,
): Promise<RunOutcome> {
  const { database } = context;
  const space = run.space === null ? undefined : await spaceById(database, account.id, run.space);
  const carrier = new FileCarrier(context, job, account, run, signIn, turn);
  // Nothing has to be found out, so it ends though the file space may let nobody in.
  if (run.wanted === 'cancel' && (await sentFiles(database, account.id, run.id)).length === 0)
    return carrier.endWithout('cancelled', 'cancelled');
  if (!space) return carrier.endWithout('done', 'folder-gone');
  const client = await openSpace(context, account, space, watch);
  try {
    return await carrier.carryOut(space, client);
  } finally {
    client.close();
  }
}

class FileCarrier {
  private readonly fenced: Fence;
  private since = Date.now();
  private announcedAt = 0;

  constructor(
    private readonly context: WorkContext,
    private readonly job: Job,
    private readonly account: Account,
    private readonly run: Run,
    private readonly signIn: () => Promise<MailServer>,
    private readonly turn: Turn,
  ) {
    this.fenced = fenceOf(context, job, { bySets: true });
  }

  /** Leaves all that is pending, and asks the file space nothing. */
  async endWithout(outcome: 'done' | 'cancelled', reason: LeftReason): Promise<RunOutcome> {
    const { database } = this.context;
    await this.begun();
    const sent = await sentFiles(database, this.account.id, this.run.id);
    await this.leave(
      'unknown',
      sent.map(({ id }) => id),
    );
    await this.leave(reason, [...numbersOf(await pendingFiles(database, this.account.id, this.run.id))]);
    await writeEnd(this.context, this.job, this.account, this.run, outcome, await this.snapshot());
    return outcome;
  }

  /** Begins, or goes on. */
  private async begun(): Promise<void> {
    await this.says('measuring');
    const before = this.run.before ?? (await this.snapshot());
    await this.fenced(async (db) => {
      await updateRun(db, this.account.id, this.run.id, { state: 'running', before, problem: null });
      await this.announce(db);
    });
  }

  async carryOut(space: FileSpace, client: DavClient): Promise<RunOutcome> {
    const { database } = this.context;
    await this.begun();
    const mail = new StayingMail(database, this.account, this.run.id, this.signIn);
    const { context, account, run, fenced } = this;
    const scene = { context, account: account.id, space, client, run, fenced, mail, told: this };
    const work = run.action === 'shrink' ? new ShrinkingPictures(scene) : new MovingFiles(scene);
    let outcome: RunOutcome;
    try {
      await work.recover();
      outcome = await work.work();
    } finally {
      await mail.close();
    }
    if (outcome === 'paused') return outcome;
    await this.says('concluding');
    const asked = await askSpace(client, space.root);
    await this.fenced(async (db) => {
      await noteFigures(db, this.account.id, space.id);
      const { quotaUsed = null, quotaAvailable = null } = asked;
      await updateSpace(db, this.account.id, space.id, { quotaUsed, quotaAvailable, askedAt: new Date() });
      const left = (await runById(db, this.account.id, this.run.id))?.left ?? [];
      const isBehind = left.some(({ reason }) => BEHIND.has(reason));
      if (isBehind && (await beginListing(db, this.account.id, space.id)))
        await enqueue(db, this.account.id, 'list-space', space.id);
      await tell(db, this.account.id, 'space', { id: space.id });
    });
    await writeEnd(this.context, this.job, this.account, this.run, outcome, await this.snapshot());
    return outcome;
  }

  /** How full it is: what both servers say is asked anew. */
  private async snapshot() {
    const server = await this.signIn();
    try {
      return await quotaSnapshot(this.context.database, this.account, server);
    } finally {
      await server.close();
    }
  }

  async leave(reason: LeftReason, ids: readonly number[], because?: SpaceProblem): Promise<void> {
    if (ids.length === 0) return;
    await this.fenced(async (db) => {
      // The index was behind: what is there now is found by the next listing.
      if (reason === 'vanished' || reason === 'changed') await noteGone(db, this.account.id, ids);
      await leaveFiles(db, this.account.id, this.run.id, reason, ids);
      if (because) await noteRefusal(db, this.account.id, this.run.id, because);
      await this.announce(db);
    });
  }

  /** Notes, with what was done, that it got on. */
  async progressed(db: Queryable): Promise<void> {
    const worked = Date.now() - this.since;
    this.since = Date.now();
    await addWorked(db, this.account.id, this.run.id, worked);
    await this.turn.progressed(db);
    await this.announce(db);
  }

  /** Says what is being done now, and with how many files. */
  async says(phase: RunPhase, files = 0): Promise<void> {
    await this.fenced(async (db) => {
      await updateRun(db, this.account.id, this.run.id, { doing: { phase, messages: files } });
      await this.announce(db);
    });
  }

  /** Tells of the run, unless that was just done and what follows tells of it too. */
  private async announce(db: Queryable): Promise<void> {
    if (Date.now() - this.announcedAt < ANNOUNCED_MS) return;
    this.announcedAt = Date.now();
    await tell(db, this.account.id, 'run', await runById(db, this.account.id, this.run.id));
  }
}
