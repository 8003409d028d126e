import type { Quoting } from '../../core/brought/quoting';
import { categoryNumber, judge } from '../../core/categories/categories';
import { fileId, WHOLE_MESSAGE } from '../../core/files/file';
import { Threads } from '../../core/threads/threads';
import { type Account, takeIds } from '../access/accounts';
import { type Queryable, row, theRow } from '../database';
import { selfOf } from '../index/categories';
import { FoldedTexts } from '../index/folded-texts';
import { type IndexedMessage, MessageRows } from '../index/message-rows';
import { addSavedFiles, type SavedFile } from './bags';

/** A file that is brought in, and what was found in it. */
export interface Brought {
  name: string;
  /** Octets, and how many of them are here. */
  size: number;
  received: number;
  /** The mail folder into which its messages go, before those that it names itself; '' for none. */
  folder: string;
  /** How mbox files in it are quoted, where a person knows. */
  asked: Quoting | null;
}

export async function addBrought(
  db: Queryable,
  account: number,
  bag: number,
  { name, size, folder, asked }: Omit<Brought, 'received'>,
): Promise<void> {
  await db.query(`insert into brought (account, bag, name, size, folder, asked) values ($1, $2, $3, $4, $5, $6)`, [
    account,
    bag,
    name,
    size,
    folder,
    asked,
  ]);
  await db.query(`update bag set state = 'receiving' where account = $1 and id = $2`, [account, bag]);
}

export async function broughtOf(db: Queryable, account: number, bag: number): Promise<Brought | undefined> {
  return row<Brought>(db, 'select name, size, received, folder, asked from brought where account = $1 and bag = $2', [
    account,
    bag,
  ]);
}

/** Notes how many octets of a file are here. */
export async function noteReceived(db: Queryable, account: number, bag: number, received: number): Promise<void> {
  await db.query('update brought set received = $3, touched_at = now() where account = $1 and bag = $2', [
    account,
    bag,
    received,
  ]);
}

/** Notes what was found in a file so far. */
export async function noteFound(
  db: Queryable,
  account: number,
  bag: number,
  { format, quoting, done, passed }: { format: string; quoting: Quoting | undefined; done: number; passed: number },
): Promise<void> {
  await db.query(
    'update brought set format = $3, quoting = $4, done = $5, passed = $6 where account = $1 and bag = $2',
    [account, bag, format, quoting ?? null, done, passed],
  );
}

/** How many messages of a file are in its bag: those that come first in it. */
export async function broughtMessages(db: Queryable, account: number, bag: number): Promise<number> {
  const { last } = await theRow<{ last: number }>(
    db,
    'select coalesce(max(ordinal), 0) as last from brought_message where account = $1 and bag = $2',
    [account, bag],
  );
  return last;
}

/** Notes that a bag was asked to hold what it holds: nobody knew before how much that is. */
export async function noteAllBrought(db: Queryable, account: number, bag: number): Promise<void> {
  await db.query(
    `update bag set (asked_files, asked_bytes) = (
       select count(*), coalesce(sum(encoded), 0) from bag_file where account = $1 and bag = $2)
     where account = $1 and id = $2`,
    [account, bag],
  );
}

/** Forgets the messages that were brought in with a bag: nothing else holds them. What is not there any more is not named either. */
export async function forgetBrought(db: Queryable, account: number, bag: number): Promise<void> {
  for (const table of ['file', 'message'])
    await db.query(
      `delete from ${table} t using brought_message b where b.account = $1 and b.bag = $2 and t.account = $1
       and t.id >= b.file ${table === 'file' ? `- ${WHOLE_MESSAGE} and t.id < b.file` : `/ 512 and t.id <= b.file / 512`}`,
      [account, bag],
    );
  await db.query('delete from brought_message where account = $1 and bag = $2', [account, bag]);
}

/** Days after which a file is let go of which nothing more came. */
const UPLOAD_DAYS = 7;

/** The bag whose file has been coming for longest, and does not any more; kept from others until the transaction is over. */
export async function overdueUpload(
  client: Queryable,
): Promise<{ account: number; id: number; folder: string } | undefined> {
  return row(
    client,
    `select b.account, b.id, b.folder from bag b join brought u on u.account = b.account and u.bag = b.id
     where b.state = 'receiving' and u.touched_at < now() - interval '${UPLOAD_DAYS} days'
     order by u.touched_at limit 1 for update of b skip locked`,
  );
}

/** A message that was brought in. */
export interface ReadMessage {
  ordinal: number;
  record: IndexedMessage;
  folder: string;
  received: Date;
  flags: number;
  keywords: string[];
  flawed: boolean;
}

/** Writes messages that were brought in down, some at a time. */
export class BroughtMessages {
  private readonly rows: MessageRows;
  private readonly self: ReadonlySet<string>;
  private batch: { message: ReadMessage; category: number }[] = [];

  constructor(
    private readonly account: Account,
    private readonly bag: number,
  ) {
    this.rows = new MessageRows(account.id, new FoldedTexts(), new Threads());
    this.self = selfOf(account);
  }

  add(message: ReadMessage): void {
    const signs = this.rows.add(message.record, this.self);
    const own = this.self.has(message.record.from?.address ?? '');
    const { category } = judge({ signs, own, written: false, corrected: null });
    this.batch.push({ message, category: categoryNumber(category) });
  }

  /** Writes those that were added down. @param kept where each is in the bag, in the order in which they were added. */
  async write(
    db: Queryable,
    kept: readonly Pick<SavedFile, 'path' | 'size' | 'sha256' | 'at' | 'length'>[],
  ): Promise<void> {
    const { batch, rows, account, bag } = this;
    const { first } = await takeIds(db, account.id, batch.length);
    await rows.write(db, first, new Set());
    const files = batch.map((_, at) => fileId(first + at, WHOLE_MESSAGE));
    await addSavedFiles(
      db,
      account.id,
      bag,
      kept.map((place, at) => ({ ...place, file: files[at] as number, placement: 0, encoded: place.size })),
    );
    const messages = batch.map(({ message, category }, at) => {
      const { ordinal, folder, received, flags, keywords, flawed } = message;
      return { file: files[at], ordinal, folder, received, flags, keywords, category, flawed };
    });
    await db.query(
      `insert into brought_message (account, bag, file, ordinal, folder, received, flags, keywords, category, flawed)
       select $1, $2, m.* from jsonb_to_recordset($3::jsonb) as m (file bigint, ordinal int, folder text, received timestamptz,
         flags int, keywords text[], category smallint, flawed boolean)`,
      [account.id, bag, JSON.stringify(messages)],
    );
    rows.clear();
    this.batch = [];
  }
}
