import type { Reading } from '../../core/repeats/readings';
import { type Queryable, row, rows } from '../database';
import type { Note } from './standing';

/** How far a reading is. Octets, and messages or files. */
export interface Proof {
  what: Reading;
  state: 'queued' | 'running' | 'done' | 'failed';
  budget: number;
  total: { messages: number; bytes: number };
  done: { messages: number; bytes: number };
  attempts: number;
  problem: Note | null;
  endedAt: Date | null;
}

const COLUMNS = `what, state, budget, json_build_object('messages', total, 'bytes', total_bytes) as total,
  json_build_object('messages', done, 'bytes', done_bytes) as done, attempts, problem, ended_at as "endedAt"`;

export async function proofOf(db: Queryable, account: number, what: Reading): Promise<Proof | undefined> {
  return row<Proof>(db, `select ${COLUMNS} from proof where account = $1 and what = $2`, [account, what]);
}

export async function proofsOf(db: Queryable, account: number): Promise<Proof[]> {
  return rows<Proof>(db, `select ${COLUMNS} from proof where account = $1`, [account]);
}

/** Begins anew, for so many octets at most; nothing where one is under way. */
export async function openProof(db: Queryable, account: number, what: Reading, budget: number): Promise<void> {
  await db.query(
    `insert into proof (account, what, state, budget) values ($1, $2, 'queued', $3)
     on conflict (account, what) do update set state = 'queued', budget = excluded.budget, total = 0, total_bytes = 0, done = 0,
       done_bytes = 0, attempts = 0, problem = null, ended_at = null
     where proof.state not in ('queued', 'running')`,
    [account, what, budget],
  );
}

export async function updateProof(
  db: Queryable,
  account: number,
  what: Reading,
  change: Partial<Pick<Proof, 'state' | 'total' | 'done' | 'attempts' | 'problem'>>,
): Promise<Proof | undefined> {
  return row<Proof>(
    db,
    `update proof set state = coalesce($3, state), total = coalesce($4, total), total_bytes = coalesce($5, total_bytes),
       done = coalesce($6, done), done_bytes = coalesce($7, done_bytes), attempts = coalesce($8, attempts),
       problem = case when $9 then $10::jsonb else problem end,
       ended_at = case when $3 in ('done', 'failed') then now() else ended_at end
     where account = $1 and what = $2 returning ${COLUMNS}`,
    [
      account,
      what,
      change.state ?? null,
      change.total?.messages ?? null,
      change.total?.bytes ?? null,
      change.done?.messages ?? null,
      change.done?.bytes ?? null,
      change.attempts ?? null,
      change.problem !== undefined,
      change.problem ? JSON.stringify(change.problem) : null,
    ],
  );
}
