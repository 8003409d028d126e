import { signsOf } from '../../core/categories/signs';
import { fileId, type MessageFile, ownSizes } from '../../core/files/file';
import { fileKind, kindBits, kindNumber } from '../../core/files/kinds';
import type { EmailAddress } from '../../core/mailbox/email-address';
import type { MessageRecord } from '../../core/mailbox/record';
import { fold } from '../../core/text';
import type { Threads } from '../../core/threads/threads';
import type { Queryable } from '../database';
import { CopyRows } from './copy';
import { type FoldedTexts, foldedLines } from './folded-texts';

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

const NOBODY: EmailAddress = { name: '', address: '' };

/** What is written of a message that says nothing of where it lies. */
export type IndexedMessage = Omit<MessageRecord, 'uid' | 'size' | 'received' | 'flags' | 'keywords'>;

/** What messages say of themselves, and their files, as rows for COPY: each is written into them as it is read. */
export class MessageRows {
  private readonly messages = new CopyRows(MESSAGE_COLUMNS);
  private readonly files = new CopyRows(FILE_COLUMNS);
  /** The row of the message of each file, and the file's place in it. */
  private readonly bearers: { row: number; ordinal: number }[] = [];
  private readonly threadNodes: number[] = [];

  /** @param texts and `threads`, of what came in before: shared by many batches. */
  constructor(
    private readonly account: number,
    private readonly texts: FoldedTexts,
    private readonly threads: Threads,
  ) {}

  get size(): number {
    return this.threadNodes.length;
  }

  clear(): void {
    this.messages.clear();
    this.files.clear();
    this.bearers.length = 0;
    this.threadNodes.length = 0;
  }

  /** Adds a message, and gives the signs by which its category is told. @param self addresses of the user, lower case. */
  add(record: IndexedMessage, self: ReadonlySet<string>): number {
    const { bulkFields, listId, recipients, subject } = record;
    const authorAddress = record.from?.address ?? '';
    // What somebody forwards tells nothing of how the message came to be.
    const files = record.files.filter(({ enclosed }) => !enclosed);
    const signs = signsOf({ bulkFields, listId, authorAddress, recipients, subject, files }, self);
    const own = ownSizes(record.files);
    const attached = own.reduce((sum, size) => sum + size, 0);
    const row = this.size;
    this.threadNodes.push(this.threads.add(record));
    for (const [ordinal, file] of record.files.entries()) this.addFile(row, ordinal, file, own[ordinal] ?? 0);
    this.addMessage(record, signs, attached);
    return signs;
  }

  /**
   * Writes them in a transaction of the caller's, under numbers that follow each other.
   *
   * @param known rows that are not written, since their message is there already.
   */
  async write(db: Queryable, first: number, known: ReadonlySet<number>): Promise<void> {
    const { messages, files, threads } = this;
    for (let row = 0; row < this.size; row++) {
      messages.patch(row, MESSAGE_ID, first + row);
      // As far as it shows by now: few are left to be joined once the scan is through, which costs more than to write them.
      if (!known.has(row)) messages.patch(row, THREAD, threads.threadOf(this.threadNodes[row] as number, first + row));
    }
    const already = new Set<number>();
    for (const [at, bearer] of this.bearers.entries()) {
      if (known.has(bearer.row)) already.add(at);
      files.patch(at, FILE_ID, fileId(first + bearer.row, bearer.ordinal));
    }
    await messages.into(db, 'message', known);
    if (this.bearers.length > already.size) await files.into(db, 'file', already);
  }

  private addMessage(record: IndexedMessage, signs: number, attached: number): void {
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
}

/** JSON of texts by name; most messages have none. */
function jsonOf(fields: Readonly<Record<string, string>>): string {
  for (const _ in fields) return JSON.stringify(fields);
  return '{}';
}
