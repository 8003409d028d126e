import { type Queryable, row } from '../database';
import type { Note } from './standing';

/** How far the comparing of messages is. Octets and messages. */
export interface Proof {
  state: 'queued' | 'running' | 'done' | 'failed';
  budget: number;
  total: { messages: number; bytes: number };
  done: { messages: number; bytes: number };
  attempts: number;
  problem: Note | null;
  endedAt: Date | null;
}

const COLUMNS = `state, budget, json_build_object('messages', total, 'bytes', total_bytes) as total,
  json_build_object('messages', done, 'bytes', done_bytes) as done, attempts, problem, ended_at as "endedAt"`;

export async function proofOf(db: Queryable, account: number): Promise<Proof | undefined> {
  return row<Proof>(db, `select ${COLUMNS} from proof where account = $1`, [account]);
}

/** Begins anew, for so many octets at most; nothing where one is under way. */
export async function openProof(db: Queryable, account: number, budget: number): Promise<void> {
  await db.query(
    `insert into proof (account, state, budget) values ($1, 'queued', $2)
     on conflict (account) do update set state = 'queued', budget = excluded.budget, total = 0, total_bytes = 0, done = 0,
       done_bytes = 0, attempts = 0, problem = null, ended_at = null
     where proof.state not in ('queued', 'running')`,
    [account, budget],
  );
}

export async function updateProof(
  db: Queryable,
  account: number,
  change: Partial<Pick<Proof, 'state' | 'total' | 'done' | 'attempts' | 'problem'>>,
): Promise<Proof | undefined> {
  return row<Proof>(
    db,
    `update proof set state = coalesce($2, state), total = coalesce($3, total), total_bytes = coalesce($4, total_bytes),
       done = coalesce($5, done), done_bytes = coalesce($6, done_bytes), attempts = coalesce($7, attempts),
       problem = case when $8 then $9::jsonb else problem end,
       ended_at = case when $2 in ('done', 'failed') then now() else ended_at end
     where account = $1 returning ${COLUMNS}`,
    [
      account,
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
