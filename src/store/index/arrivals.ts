import { categoryNumber, judge } from '../../core/categories/categories';
import { signsOf } from '../../core/categories/signs';
import { fileId, type MessageFile, ownSizes } from '../../core/files/file';
import { fileKind, kindBits, kindNumber } from '../../core/files/kinds';
import type { EmailAddress } from '../../core/mailbox/email-address';
import type { MessageRecord } from '../../core/mailbox/record';
import { fold } from '../../core/text';
import type { Threads } from '../../core/threads/threads';
import { takeIds } from '../access/accounts';
import { type Queryable, rows } from '../database';
import { CopyRows } from './copy';
import { type FoldedTexts, foldedLines } from './folded-texts';

/** Where messages are written, and for whom. */
export interface Place {
  folder: number;
  generation: number;
  /** Whether what lies there was written by the user. */
  own: boolean;
  /** Addresses of the user, lower case. */
  self: ReadonlySet<string>;
}

/** Integers that are known when a batch is written come first, so that they can be written again. */
const MESSAGE_COLUMNS = [
  'account',
  'id',
  'thread',
  'email_id',
  'message_id',
  'in_reply_to',
  'reference_ids',
  'sent',
  'from_name',
  'from_address',
  'from_host',
  'from_domain',
  'from_name_folded',
  'from_address_folded',
  'recipients',
  'to_folded',
  'subject',
  'subject_folded',
  'list_id',
  'list_folded',
  'bulk_fields',
  'file_count',
  'file_bytes',
  'files_folded',
  'flaws',
  'signs',
  'kinds',
];
const [MESSAGE_ID, THREAD] = [1, 2];

const FILE_COLUMNS = [
  'account',
  'id',
  'size',
  'own_size',
  'part',
  'name',
  'name_folded',
  'type',
  'kind',
  'encoding',
  'disposition',
  'inside',
  'enclosed',
];
const FILE_ID = 1;

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

const NOBODY: EmailAddress = { name: '', address: '' };

/**
 * A batch of messages that came into a folder, as rows for COPY: each is written into them as it is read, so that nothing
 * else of it has to be kept. The caller holds the account's lease, and adds no UID that is in the index.
 */
export class ArrivalBatch {
  private readonly messages = new CopyRows(MESSAGE_COLUMNS);
  private readonly placements = new CopyRows(PLACEMENT_COLUMNS);
  private readonly files = new CopyRows(FILE_COLUMNS);
  /** The row of the message of each file, and the file's place in it. */
  private readonly bearers: { row: number; ordinal: number }[] = [];
  private readonly emailIds: (string | null)[] = [];
  private readonly threadNodes: number[] = [];
  /** Of the messages in it. */
  readonly uids: number[] = [];

  /** @param texts and `threads`, of what came in before: shared by the batches of a scan. */
  constructor(
    private readonly account: number,
    private readonly texts: FoldedTexts,
    private readonly threads: Threads,
  ) {}

  get size(): number {
    return this.uids.length;
  }

  clear(): void {
    this.messages.clear();
    this.placements.clear();
    this.files.clear();
    this.bearers.length = 0;
    this.emailIds.length = 0;
    this.threadNodes.length = 0;
    this.uids.length = 0;
  }

  add(place: Place, record: MessageRecord): void {
    const { bulkFields, listId, recipients, subject } = record;
    const authorAddress = record.from?.address ?? '';
    // What somebody forwards tells nothing of how the message came to be.
    const files = record.files.filter(({ enclosed }) => !enclosed);
    const signs = signsOf({ bulkFields, listId, authorAddress, recipients, subject, files }, place.self);
    const own = ownSizes(record.files);
    const attached = own.reduce((sum, size) => sum + size, 0);
    this.emailIds.push(record.emailId);
    this.threadNodes.push(this.threads.add(record));
    for (const [ordinal, file] of record.files.entries())
      this.addFile(this.uids.length, ordinal, file, own[ordinal] ?? 0);
    this.uids.push(record.uid);
    this.addMessage(record, signs, attached);
    this.addPlacement(place, record, signs);
  }

  /**
   * Writes the batch in a transaction of the caller's. A message that the server knows by the same EMAILID keeps its row:
   * then the batch's own is not written.
   */
  async write(db: Queryable): Promise<void> {
    const { messages, placements, files, size } = this;
    if (size === 0) return;
    const { first, version } = await takeIds(db, this.account, size);
    const known = await this.known(db, first);
    for (let row = 0; row < size; row++) {
      messages.patch(row, MESSAGE_ID, first + row);
      // As far as it shows by now: few are left to be joined once the scan is through, which costs more than to write them.
      if (!known.has(row))
        messages.patch(row, THREAD, this.threads.threadOf(this.threadNodes[row] as number, first + row));
      placements.patch(row, PLACEMENT_ID, first + row);
      placements.patch(row, PLACED_MESSAGE, known.get(row) ?? first + row);
      placements.patch(row, CHANGED, version);
    }
    const already = new Set<number>();
    for (const [at, bearer] of this.bearers.entries()) {
      if (known.has(bearer.row)) already.add(at);
      files.patch(at, FILE_ID, fileId(first + bearer.row, bearer.ordinal));
    }
    await messages.into(db, 'message', new Set(known.keys()));
    await placements.into(db, 'placement');
    if (this.bearers.length > already.size) await files.into(db, 'file', already);
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

  private addMessage(record: MessageRecord, signs: number, attached: number): void {
    const { messages: row, texts } = this;
    const author = record.from ?? NOBODY;
    const folded = texts.of(author);
    const recipients = texts.ofAll(record.recipients);
    row.row();
    row.bigint(this.account);
    row.bigint(0);
    row.bigint(0);
    if (record.emailId === null) row.null();
    else row.text(record.emailId);
    row.text(record.messageId);
    row.text(record.inReplyTo);
    row.text(record.references.join(' '));
    if (record.sent === null) row.null();
    else row.timestamp(record.sent);
    row.text(author.name);
    row.text(author.address);
    row.text(folded.host);
    row.text(folded.domain);
    row.text(folded.name);
    row.text(folded.address);
    row.json(recipients.json);
    row.text(recipients.lines);
    row.text(record.subject);
    row.text(fold(record.subject));
    row.text(record.listId);
    row.text(fold(record.listId));
    row.json(jsonOf(record.bulkFields));
    row.integer(record.files.length);
    row.bigint(attached);
    row.text(foldedLines(record.files.map((file) => file.name)));
    row.texts(record.flaws);
    row.integer(signs);
    row.integer(kindBits(record.files));
  }

  private addFile(of: number, ordinal: number, file: MessageFile, own: number): void {
    const { files: row } = this;
    this.bearers.push({ row: of, ordinal });
    row.row();
    row.bigint(this.account);
    row.bigint(0);
    row.bigint(file.size);
    row.bigint(own);
    row.text(file.part);
    row.text(file.name);
    row.text(fold(file.name));
    row.text(file.type);
    row.smallint(kindNumber(fileKind(file.type, file.name)));
    row.text(file.encoding);
    if (file.disposition === null) row.null();
    else row.text(file.disposition);
    row.integer(file.inside);
    row.boolean(file.enclosed);
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

/** JSON of texts by name; most messages have none. */
function jsonOf(fields: Readonly<Record<string, string>>): string {
  for (const _ in fields) return JSON.stringify(fields);
  return '{}';
}
