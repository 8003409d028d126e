import type { SizeClass } from '../../core/senders/first-ranking';
import { nextNumber } from '../access/accounts';
import { type Queryable, row, theRow } from '../database';

/** How far a scan is: each stage is whole before the next begins. */
export type ScanStage = 'level' | 'outline' | 'details' | 'finalizing';

/** Sums over the outline of a scan, the trash left out. */
export interface OutlineSums {
  messages: number;
  bytes: number;
  sizes: SizeClass[];
}

export interface Scan {
  id: number;
  state: 'queued' | 'running' | 'done' | 'failed';
  folders: { done: number; total: number };
  /** Of the stage under way. */
  messages: { done: number; total: number };
  stage: ScanStage;
  /** Null until the outline is whole, or where there was none. */
  outline: OutlineSums | null;
  attempts: number;
  problem: { kind: string; detail: string } | null;
  createdAt: Date;
  endedAt: Date | null;
}

const COLUMNS = `id, state, json_build_object('done', folders_done, 'total', folders_total) as folders,
  json_build_object('done', messages_done, 'total', messages_total) as messages, stage, outline, attempts, problem,
  created_at as "createdAt", ended_at as "endedAt"`;

export async function scanById(db: Queryable, account: number, id: number): Promise<Scan | undefined> {
  return row<Scan>(db, `select ${COLUMNS} from scan where account = $1 and id = $2`, [account, id]);
}

export async function lastScan(db: Queryable, account: number): Promise<Scan | undefined> {
  return row<Scan>(db, `select ${COLUMNS} from scan where account = $1 order by id desc limit 1`, [account]);
}

/** The scan that is open, or a new one. */
export async function openScan(db: Queryable, account: number): Promise<{ scan: Scan; isNew: boolean }> {
  await db.query('select 1 from account where id = $1 for no key update', [account]);
  const open = await row<Scan>(
    db,
    `select ${COLUMNS} from scan where account = $1 and state in ('queued', 'running') limit 1`,
    [account],
  );
  if (open) return { scan: open, isNew: false };
  const id = await nextNumber(db, account, 'scan');
  const scan = await theRow<Scan>(db, `insert into scan (account, id) values ($1, $2) returning ${COLUMNS}`, [
    account,
    id,
  ]);
  return { scan, isNew: true };
}

/**
 * An account that is to be scanned by itself, whose last scan was begun too long ago and which can be signed in to. Locked for the
 * transaction; other workers pass it by.
 */
export async function dueForScan(db: Queryable): Promise<number | undefined> {
  const due = await row<{ id: number }>(
    db,
    `select a.id from account a
     where a.state = 'active' and a.settings ->> 'scanEveryHours' is not null
       and exists (select 1 from credential c where c.account = a.id and not c.forget)
       and not exists (select 1 from scan s where s.account = a.id and (s.state in ('queued', 'running')
         or s.created_at > now() - make_interval(hours => (a.settings ->> 'scanEveryHours')::int)))
     order by a.id limit 1 for no key update of a skip locked`,
  );
  return due?.id;
}

/** Writes what is given and gives the scan as it is then. */
export async function updateScan(
  db: Queryable,
  account: number,
  id: number,
  change: {
    state?: Scan['state'];
    stage?: ScanStage;
    folders?: Scan['folders'];
    messages?: Scan['messages'];
    problem?: Scan['problem'];
    attempts?: number;
  },
): Promise<Scan> {
  return theRow<Scan>(
    db,
    `update scan set state = coalesce($3, state),
       folders_done = coalesce($4, folders_done), folders_total = coalesce($5, folders_total),
       messages_done = coalesce($6, messages_done), messages_total = coalesce($7, messages_total),
       problem = case when $8 then $9::jsonb else problem end, attempts = coalesce($10, attempts),
       stage = coalesce($11, stage),
       ended_at = case when $3 in ('done', 'failed') then now() else ended_at end
     where account = $1 and id = $2 returning ${COLUMNS}`,
    [
      account,
      id,
      change.state ?? null,
      change.folders?.done ?? null,
      change.folders?.total ?? null,
      change.messages?.done ?? null,
      change.messages?.total ?? null,
      change.problem !== undefined,
      change.problem ? JSON.stringify(change.problem) : null,
      change.attempts ?? null,
      change.stage ?? null,
    ],
  );
}

export async function saveOutline(db: Queryable, account: number, id: number, outline: OutlineSums): Promise<void> {
  await db.query('update scan set outline = $3 where account = $1 and id = $2', [account, id, JSON.stringify(outline)]);
}
