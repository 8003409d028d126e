import { type Database, type Queryable, transaction, transactionBySets } from '../store/database';
import { holdLease, type Job } from '../store/jobs';

/** Writes in a transaction that only the holder of the job's lease can close. Throws LeaseLost where another worker has it. */
export type Fence = <T>(act: (client: Queryable) => Promise<T>) => Promise<T>;

/** @param bySets whether the statements meet rows by sets of many ranges (store/database says what that changes). */
export function fenceOf(
  { database, worker }: { database: Database; worker: string },
  job: Job,
  { bySets = false } = {},
): Fence {
  const open = bySets ? transactionBySets : transaction;
  return (act) =>
    open(database, async (client) => {
      await holdLease(client, job, worker);
      return act(client);
    });
}
