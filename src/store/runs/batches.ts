import { parseMultirange, printMultirange, type Ranges, rangesOf } from '../../core/sets/ranges';
import { type Queryable, row, rows, theRow } from '../database';
import { placementsOf, THEIR_MESSAGE } from '../index/spans';

/**
 * How a batch is carried out.
 *
 * - `move`: UID MOVE (RFC 6851).
 * - `copy`: UID COPY, then the originals are marked \Deleted and expunged once their copies are known.
 * - `expunge`: marked \Deleted and expunged for good.
 * - `hand-over`: likewise, on a server that puts into the trash itself what is expunged elsewhere; a purge goes on from there.
 */
export type BatchMethod = 'move' | 'copy' | 'expunge' | 'hand-over';

/**
 * How far a batch is: written before its first command (`sent`), its members \Deleted by us (`marked`), its copies
 * known (`copied`), accounted for (`done`).
 */
export type BatchState = 'sent' | 'marked' | 'copied' | 'done';

/** A member of a batch: its UID at the source, and at the destination where it is known (else 0). */
export interface BatchMember {
  id: number;
  uid: number;
  arrived: number;
}

/** One command's worth of a run. */
export interface Batch {
  seq: number;
  method: BatchMethod;
  state: BatchState;
  /** Of the source. */
  generation: number;
  /** By UID. */
  members: BatchMember[];
  /** Folder; null for a purge. */
  destination: number | null;
  /** UIDVALIDITY and UIDNEXT of the destination before the command: what it brought has a UID from there on. */
  destinationValidity: number | null;
  destinationUidNext: number | null;
  /** UIDs from which others' \Deleted is lifted for the moment, and their generation; null where there are none. */
  lifted: { generation: number; uids: Ranges } | null;
}

/** Writes down what is about to be sent. */
export async function beginBatch(
  db: Queryable,
  account: number,
  run: number,
  batch: Omit<Batch, 'seq' | 'state' | 'lifted'>,
): Promise<Batch> {
  const ids = batch.members.map(({ id }) => id);
  const { seq } = await theRow<{ seq: number }>(
    db,
    `insert into run_batch (account, run, seq, method, generation, members, ids, uids, arrived, destination, state,
                            destination_validity, destination_uid_next)
     select $1, $2, coalesce(max(seq), 0) + 1, $3, $4, $5::int8multirange, $6, $7, $8, $9, 'sent', $10, $11
     from run_batch where account = $1 and run = $2 returning seq`,
    [
      account,
      run,
      batch.method,
      batch.generation,
      printMultirange(rangesOf(ids)),
      ids,
      batch.members.map(({ uid }) => uid),
      batch.members.map(({ arrived }) => arrived),
      batch.destination,
      batch.destinationValidity,
      batch.destinationUidNext,
    ],
  );
  return { ...batch, seq, state: 'sent', lifted: null };
}

/** The batches that were sent and never closed. */
export async function openBatches(db: Queryable, account: number, run: number): Promise<Batch[]> {
  const open = await rows<
    Omit<Batch, 'members' | 'lifted'> & {
      ids: number[];
      uids: number[];
      arrived: number[];
      lifted: string;
      liftedIn: number | null;
    }
  >(
    db,
    `select seq, method, state, generation, ids::float8[] as ids, uids::float8[] as uids, arrived::float8[] as arrived,
            destination, destination_validity as "destinationValidity", destination_uid_next as "destinationUidNext",
            lifted::text as lifted, lifted_in as "liftedIn"
     from run_batch where account = $1 and run = $2 and state <> 'done' order by seq`,
    [account, run],
  );
  return open.map(({ ids, uids, arrived, lifted, liftedIn, ...batch }) => ({
    ...batch,
    members: ids.map((id, index) => ({ id, uid: uids[index] as number, arrived: arrived[index] as number })),
    lifted: liftedIn === null ? null : { generation: liftedIn, uids: parseMultirange(lifted) },
  }));
}

/** Writes down how far a batch is: its members as they are known now, those that are no longer in it left out. */
export async function advanceBatch(db: Queryable, account: number, run: number, batch: Batch): Promise<void> {
  const ids = batch.members.map(({ id }) => id);
  await db.query(
    `update run_batch set state = $4, method = $5, members = $6::int8multirange, ids = $7, uids = $8, arrived = $9,
       lifted = $10::int8multirange, lifted_in = $11, generation = $12
     where account = $1 and run = $2 and seq = $3`,
    [
      account,
      run,
      batch.seq,
      batch.state,
      batch.method,
      printMultirange(rangesOf(ids)),
      ids,
      batch.members.map(({ uid }) => uid),
      batch.members.map(({ arrived }) => arrived),
      printMultirange(batch.lifted?.uids ?? []),
      batch.lifted?.generation ?? null,
      batch.generation,
    ],
  );
}

/** What a digest is over: a line a message, by id, of values that never change once they are in the index. */
const DIGEST = `(
  select sha256(convert_to(string_agg(format('%s %s %s %s %s %s', d.id, g.uid_validity, d.uid, p.size,
           extract(epoch from p.received)::bigint, m.message_id), E'\\n' order by d.id), 'UTF8'))
  from unnest(b.ids, b.uids) as d (id, uid)
  cross join lateral (select * from placement where account = b.account and id = d.id offset 0) p
  ${THEIR_MESSAGE}
  join generation g on g.account = b.account and g.id = b.generation)`;

/** Closes a batch with what was done of it, which is counted; the rest is pending again. */
export async function closeBatch(
  db: Queryable,
  account: number,
  run: number,
  batch: Batch,
  done: readonly BatchMember[],
): Promise<void> {
  await advanceBatch(db, account, run, { ...batch, state: 'done', members: [...done], lifted: null });
  await db.query(
    `update run_batch b set done_members = members, digest = ${DIGEST} where account = $1 and run = $2 and seq = $3`,
    [account, run, batch.seq],
  );
  await db.query(
    `update run set done_messages = done_messages + amount.messages, done_bytes = done_bytes + amount.bytes, attempts = 0,
       problem = null
     from (select count(*)::int as messages, coalesce(sum(size), 0)::bigint as bytes from ${placementsOf('$3::bigint[]')}) amount
     where run.account = $1 and run.id = $2`,
    [account, run, done.map(({ id }) => id)],
  );
}

/** SHA-256, in hexadecimal, over the digests of a run's batches, as they are kept or as they are told anew from the index. */
export async function digestOfDone(db: Queryable, account: number, run: number, anew = false): Promise<string> {
  const found = await row<{ digest: string }>(
    db,
    `select encode(sha256(coalesce(string_agg(coalesce(${anew ? DIGEST : 'b.digest'}, ''), ''::bytea order by b.seq), ''::bytea)), 'hex') as digest
     from run_batch b where b.account = $1 and b.run = $2 and b.state = 'done'`,
    [account, run],
  );
  return found?.digest ?? '';
}

/** Folders that a run brought messages to and that no scan has read: a folder that was made for it, such as the first trash. */
export async function unreadDestinations(db: Queryable, account: number, run: number): Promise<number[]> {
  const found = await rows<{ folder: number }>(
    db,
    `select distinct b.destination as folder from run_batch b
     join generation g on g.account = b.account and g.folder = b.destination and g.closed_at is null and g.seen_messages is null
     where b.account = $1 and b.run = $2`,
    [account, run],
  );
  return found.map(({ folder }) => folder);
}
