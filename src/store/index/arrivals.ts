import { categoryNumber, judge } from '../../core/categories/categories';
import type { MessageRecord } from '../../core/mailbox/record';
import type { Threads } from '../../core/threads/threads';
import { takeIds } from '../access/accounts';
import { type Queryable, rows } from '../database';
import { CopyRows } from './copy';
import type { FoldedTexts } from './folded-texts';
import { MessageRows } from './message-rows';

/** Where messages are written, and for whom. */
export interface Place {
  folder: number;
  generation: number;
  /** Whether what lies there was written by the user. */
  own: boolean;
  /** Addresses of the user, lower case. */
  self: ReadonlySet<string>;
}

const PLACEMENT_COLUMNS = [
  'account',
  'id',
  'message',
  'changed',
  'uid',
  'size',
  'folder',
  'generation',
  'received',
  'flags',
  'keywords',
  'category',
];
const [PLACEMENT_ID, PLACED_MESSAGE, CHANGED] = [1, 2, 3];

/**
 * A batch of messages that came into a folder, as rows for COPY: each is written into them as it is read, so that nothing
 * else of it has to be kept. The caller holds the account's lease, and adds no UID that is in the index.
 */
export class ArrivalBatch {
  private readonly messages: MessageRows;
  private readonly placements = new CopyRows(PLACEMENT_COLUMNS);
  private readonly emailIds: (string | null)[] = [];
  /** Of the messages in it. */
  readonly uids: number[] = [];

  /** @param texts and `threads`, of what came in before: shared by the batches of a scan. */
  constructor(
    private readonly account: number,
    texts: FoldedTexts,
    threads: Threads,
  ) {
    this.messages = new MessageRows(account, texts, threads);
  }

  get size(): number {
    return this.uids.length;
  }

  clear(): void {
    this.messages.clear();
    this.placements.clear();
    this.emailIds.length = 0;
    this.uids.length = 0;
  }

  add(place: Place, record: MessageRecord): void {
    this.emailIds.push(record.emailId);
    const signs = this.messages.add(record, place.self);
    this.uids.push(record.uid);
    this.addPlacement(place, record, signs);
  }

  /**
   * Writes the batch in a transaction of the caller's. A message that the server knows by the same EMAILID keeps its row:
   * then the batch's own is not written.
   */
  async write(db: Queryable): Promise<void> {
    const { placements, size } = this;
    if (size === 0) return;
    const { first, version } = await takeIds(db, this.account, size);
    const known = await this.known(db, first);
    for (let row = 0; row < size; row++) {
      placements.patch(row, PLACEMENT_ID, first + row);
      placements.patch(row, PLACED_MESSAGE, known.get(row) ?? first + row);
      placements.patch(row, CHANGED, version);
    }
    await this.messages.write(db, first, new Set(known.keys()));
    await placements.into(db, 'placement');
  }

  /** The messages that are known by the same EMAILID, in the index or earlier in the batch, by row, rising. */
  private async known(db: Queryable, first: number): Promise<Map<number, number>> {
    const known = new Map<number, number>();
    const told = this.emailIds.filter((emailId) => emailId !== null);
    if (told.length === 0) return known;
    const found = await rows<{ emailId: string; id: number }>(
      db,
      'select email_id as "emailId", min(id) as id from message where account = $1 and email_id = any($2) group by email_id',
      [this.account, told],
    );
    const byEmailId = new Map(found.map(({ emailId, id }) => [emailId, id]));
    for (const [row, emailId] of this.emailIds.entries()) {
      if (emailId === null) continue;
      const before = byEmailId.get(emailId);
      if (before === undefined) byEmailId.set(emailId, first + row);
      else known.set(row, before);
    }
    return known;
  }

  private addPlacement(place: Place, record: MessageRecord, signs: number): void {
    const { placements: row } = this;
    row.row();
    row.bigint(this.account);
    row.bigint(0);
    row.bigint(0);
    row.bigint(0);
    row.bigint(record.uid);
    row.bigint(record.size);
    row.integer(place.folder);
    row.integer(place.generation);
    row.timestamp(record.received);
    row.integer(record.flags);
    row.texts(record.keywords);
    // What the user wrote to, and corrected, is known once the scan is through: then it is told again.
    row.smallint(categoryNumber(judge({ signs, own: place.own, written: false, corrected: null }).category));
  }
}
