import { categoryNumber, judge } from '../core/categories/categories';
import { signsOf } from '../core/categories/signs';
import { FLAG_BITS, FLAGS, type Flag } from '../core/mailbox/flags';
import { kindBits } from '../core/mailbox/kinds';
import type { MessageRecord } from '../core/mailbox/record';
import { domainOf, hostOf, type Mailbox } from '../core/senders/address';
import { printMultirange, type Ranges } from '../core/sets/ranges';
import { fold } from '../core/text';
import { lockedVersion, nextVersion, takeIds } from './accounts';
import { type Queryable, rows, theRow } from './database';

/** UIDs of a generation that are in the index. */
export async function uidsOf(db: Queryable, account: number, generation: number): Promise<number[]> {
  const found = await rows<{ uid: number }>(
    db,
    'select uid from placement where account = $1 and generation = $2 and gone_at is null',
    [account, generation],
  );
  return found.map(({ uid }) => uid);
}

export async function countPlacements(db: Queryable, account: number, generation: number): Promise<number> {
  const { count } = await theRow<{ count: number }>(
    db,
    'select count(*)::int as count from placement where account = $1 and generation = $2 and gone_at is null',
    [account, generation],
  );
  return count;
}

/** One array a column, the form in which unnest takes rows. */
class Columns {
  private readonly columns = new Map<string, { type: string; values: unknown[] }>();

  add(name: string, type: string, values: unknown[]): this {
    this.columns.set(name, { type, values });
    return this;
  }

  get names(): string {
    return [...this.columns.keys()].join(', ');
  }

  unnest(first: number): string {
    const arrays = [...this.columns.values()].map(({ type }, index) => `$${first + index}::${type}[]`);
    return `unnest(${arrays.join(', ')}) as row (${this.names})`;
  }

  get values(): unknown[] {
    return [...this.columns.values()].map(({ values }) => values);
  }
}

/** Where messages are written, and for whom. */
export interface Place {
  folder: number;
  generation: number;
  /** Whether what lies there was written by the user. */
  own: boolean;
  /** Addresses of the user, lower case. */
  self: ReadonlySet<string>;
}

/**
 * Writes a batch of a folder's messages. A message that the server knows by the same EMAILID keeps its row; a UID that
 * is there already is left as it is, so that a batch can be written twice.
 */
export async function insertBatch(
  db: Queryable,
  account: number,
  place: Place,
  records: readonly MessageRecord[],
): Promise<void> {
  if (records.length === 0) return;
  const first = await takeIds(db, account, records.length);
  const ids = records.map((_, index) => first + index);
  const messageIds = await knownMessages(db, account, records, ids);
  const signs = records.map((record) => signsOf({ ...record, authorAddress: record.from?.address ?? '' }, place.self));
  const fresh = records.flatMap((record, index) =>
    messageIds[index] === ids[index] ? [{ record, id: ids[index] as number, signs: signs[index] as number }] : [],
  );
  await insertMessages(db, account, fresh);
  const columns = new Columns()
    .add('id', 'bigint', ids)
    .add('message', 'bigint', messageIds)
    .add(
      'uid',
      'bigint',
      records.map(({ uid }) => uid),
    )
    .add(
      'size',
      'bigint',
      records.map(({ size }) => size),
    )
    .add(
      'received',
      'timestamptz',
      records.map(({ received }) => received),
    )
    .add(
      'flags',
      'int',
      records.map(({ flags }) => flags),
    )
    .add(
      'words',
      'text',
      records.map(({ keywords }) => keywords.join(' ')),
    )
    // What the user wrote to, and corrected, is known once the scan is through: then it is told again.
    .add(
      'category',
      'int',
      signs.map((bits) =>
        categoryNumber(judge({ signs: bits, own: place.own, written: false, corrected: null }).category),
      ),
    );
  await db.query(
    `insert into placement (account, folder, generation, changed, id, message, uid, size, received, flags, keywords, category)
     select $1, $2, $3, $4, id, message, uid, size, received, flags, string_to_array(words, ' '), category
     from ${columns.unnest(5)}
     on conflict (account, generation, uid) where gone_at is null do nothing`,
    [account, place.folder, place.generation, await nextVersion(db, account), ...columns.values],
  );
}

/** For each record the message it is: one with the same EMAILID, in the index or earlier in the batch, else a new one. */
async function knownMessages(
  db: Queryable,
  account: number,
  records: readonly MessageRecord[],
  ids: readonly number[],
): Promise<number[]> {
  const emailIds = records.flatMap(({ emailId }) => (emailId === null ? [] : [emailId]));
  const known = new Map<string, number>();
  if (emailIds.length > 0) {
    const found = await rows<{ emailId: string; id: number }>(
      db,
      'select email_id as "emailId", min(id) as id from message where account = $1 and email_id = any($2) group by email_id',
      [account, emailIds],
    );
    for (const { emailId, id } of found) known.set(emailId, id);
  }
  return records.map(({ emailId }, index) => {
    const id = ids[index] as number;
    if (emailId === null) return id;
    const before = known.get(emailId);
    if (before !== undefined) return before;
    known.set(emailId, id);
    return id;
  });
}

async function insertMessages(
  db: Queryable,
  account: number,
  fresh: readonly { record: MessageRecord; id: number; signs: number }[],
): Promise<void> {
  if (fresh.length === 0) return;
  const of = <T>(pick: (record: MessageRecord) => T) => fresh.map(({ record }) => pick(record));
  const author = (pick: (from: Mailbox) => string) => of(({ from }) => (from ? pick(from) : ''));
  const columns = new Columns()
    .add(
      'id',
      'bigint',
      fresh.map(({ id }) => id),
    )
    .add(
      'email_id',
      'text',
      of(({ emailId }) => emailId),
    )
    .add(
      'message_id',
      'text',
      of(({ messageId }) => messageId),
    )
    .add(
      'in_reply_to',
      'text',
      of(({ inReplyTo }) => inReplyTo),
    )
    .add(
      'reference_ids',
      'text',
      of(({ references }) => references.join(' ')),
    )
    .add(
      'sent',
      'timestamptz',
      of(({ sent }) => sent),
    )
    .add(
      'from_name',
      'text',
      author(({ name }) => name),
    )
    .add(
      'from_address',
      'text',
      author(({ address }) => address),
    )
    .add(
      'from_host',
      'text',
      author(({ address }) => fold(hostOf(address))),
    )
    .add(
      'from_domain',
      'text',
      author(({ address }) => fold(domainOf(address))),
    )
    .add(
      'from_name_folded',
      'text',
      author(({ name }) => fold(name)),
    )
    .add(
      'from_address_folded',
      'text',
      author(({ address }) => fold(address)),
    )
    .add(
      'recipients',
      'jsonb',
      of(({ recipients }) => JSON.stringify(recipients.map((to) => ({ ...to, domain: domainOf(to.address) })))),
    )
    .add(
      'to_folded',
      'text',
      of(({ recipients }) =>
        recipients
          .flatMap(({ name, address }) => [name, address])
          .filter(Boolean)
          .map(fold)
          .join('\n'),
      ),
    )
    .add(
      'subject',
      'text',
      of(({ subject }) => subject),
    )
    .add(
      'subject_folded',
      'text',
      of(({ subject }) => fold(subject)),
    )
    .add(
      'list_id',
      'text',
      of(({ listId }) => listId),
    )
    .add(
      'list_folded',
      'text',
      of(({ listId }) => fold(listId)),
    )
    .add(
      'bulk_fields',
      'jsonb',
      of(({ bulkFields }) => JSON.stringify(bulkFields)),
    )
    .add(
      'files',
      'jsonb',
      of(({ files }) => JSON.stringify(files)),
    )
    .add(
      'file_count',
      'int',
      of(({ files }) => files.length),
    )
    .add(
      'file_bytes',
      'bigint',
      of(({ files }) => files.reduce((sum, { size }) => sum + size, 0)),
    )
    .add(
      'files_folded',
      'text',
      of(({ files }) =>
        files
          .map(({ name }) => fold(name))
          .filter(Boolean)
          .join('\n'),
      ),
    )
    .add(
      'flaws',
      'text',
      of(({ flaws }) => flaws.join(' ')),
    )
    .add(
      'signs',
      'int',
      fresh.map(({ signs }) => signs),
    )
    .add(
      'kinds',
      'int',
      of(({ files }) => kindBits(files)),
    );
  const selected = columns.names.replace(/\bflaws\b/, `string_to_array(flaws, ' ')`);
  await db.query(`insert into message (account, ${columns.names}) select $1, ${selected} from ${columns.unnest(2)}`, [
    account,
    ...columns.values,
  ]);
}

/** Makes tombstones of what the server has no more. */
export async function tombstone(db: Queryable, account: number, generation: number, uids: Ranges): Promise<void> {
  await db.query(
    `update placement set gone_at = now(), changed = $4
     where account = $1 and generation = $2 and gone_at is null and uid <@ $3::int8multirange`,
    [account, generation, printMultirange(uids), await nextVersion(db, account)],
  );
}

/** Writes flags where they differ. */
export async function updateFlags(
  db: Queryable,
  account: number,
  generation: number,
  flags: readonly { uid: number; flags: number; keywords: string[] }[],
): Promise<void> {
  const columns = new Columns()
    .add(
      'uid',
      'bigint',
      flags.map(({ uid }) => uid),
    )
    .add(
      'flags',
      'int',
      flags.map((record) => record.flags),
    )
    .add(
      'words',
      'text',
      flags.map(({ keywords }) => keywords.join(' ')),
    );
  const version = await lockedVersion(db, account);
  const changed = await db.query(
    `update placement p set flags = row.flags, keywords = string_to_array(row.words, ' '), changed = $3
     from ${columns.unnest(4)}
     where p.account = $1 and p.generation = $2 and p.gone_at is null and p.uid = row.uid
     and (p.flags <> row.flags or p.keywords <> string_to_array(row.words, ' '))`,
    [account, generation, version, ...columns.values],
  );
  if (changed.rowCount) await nextVersion(db, account);
}

/** Writes the system flags of these UIDs where they differ: each flag with the UIDs that bear it. */
export async function updateSystemFlags(
  db: Queryable,
  account: number,
  generation: number,
  uids: Ranges,
  bearing: Partial<Record<Flag, Ranges>>,
): Promise<void> {
  const bits = FLAGS.map(
    (flag, index) => `case when uid <@ $${index + 5}::int8multirange then ${FLAG_BITS[flag]} else 0 end`,
  );
  const version = await lockedVersion(db, account);
  const changed = await db.query(
    `update placement p set flags = now.flags, changed = $4
     from (select id, ${bits.join(' | ')} as flags from placement
           where account = $1 and generation = $2 and gone_at is null and uid <@ $3::int8multirange) now
     where p.account = $1 and p.id = now.id and p.flags <> now.flags`,
    [account, generation, printMultirange(uids), version, ...FLAGS.map((flag) => printMultirange(bearing[flag] ?? []))],
  );
  if (changed.rowCount) await nextVersion(db, account);
}

/** Keeps when messages came into their folder: as the server says, else no later than an instant, null where nobody knows. */
export async function savePlacedAt(
  db: Queryable,
  account: number,
  generation: number,
  uids: Ranges,
  said: ReadonlyMap<number, Date>,
  latest: Date | null,
): Promise<void> {
  await db.query(
    `update placement p set placed_at = coalesce(said.at, o.placed_at, $4::timestamptz), changed = $7
     from placement o left join unnest($5::bigint[], $6::timestamptz[]) as said (uid, at) on said.uid = o.uid
     where o.account = $1 and o.generation = $2 and o.gone_at is null and o.uid <@ $3::int8multirange
     and p.account = o.account and p.id = o.id`,
    [
      account,
      generation,
      printMultirange(uids),
      latest,
      [...said.keys()],
      [...said.values()],
      await nextVersion(db, account),
    ],
  );
}
