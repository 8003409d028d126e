import { fileOf, type MessageFile } from '../../src/core/files/file';
import { FLAG_BITS, type FlagSet } from '../../src/core/mailbox/flags';
import type { FolderRole } from '../../src/core/mailbox/folders';
import type { MessageRecord } from '../../src/core/mailbox/record';
import { fieldsOf } from '../../src/core/mime/fields';
import { NOTE_DESCRIPTION } from '../../src/core/mime/note';
import { partOfSection } from '../../src/core/mime/rewrite';
import { MimeScanner } from '../../src/core/mime/scanner';
import { numbersOf, type Ranges, rangesOf } from '../../src/core/sets/ranges';
import { MailProblem } from '../../src/mail/problem';
import type {
  AppendedMessage,
  Arrived,
  Dialect,
  Downloaded,
  FlagsRecord,
  ListedFolder,
  MailServer,
  Moved,
  OpenFolder,
  Quota,
  Wanted,
} from '../../src/mail/server';

/** A message as tests name it: what is left out is plain. */
export type Given = Partial<FakeMessage> & { size: number };

/** A message with its octets, of those tests that read them. */
export type FakeMessage = MessageRecord & { octets?: Buffer };

export interface FakeFolder {
  path: string;
  role: FolderRole | null;
  repeats: boolean;
  readOnly: boolean;
  uidValidity: number;
  uidNext: number;
  messages: FakeMessage[];
}

const EVERYTHING: Dialect = {
  move: true,
  uidPlus: true,
  condStore: false,
  quota: false,
  within: false,
  createSpecialUse: true,
};

/** A mail server in memory, without a wire: what it does is what RFC 9051 says, and each command can be tampered with. */
export class FakeServer implements MailServer {
  readonly folderList: FakeFolder[] = [];
  readonly dialect: Dialect;
  readonly personalPrefix = '';
  /** The commands that change something, in their order. */
  readonly sent: string[] = [];
  /** Called before each command that changes something; what it throws is the answer. */
  before: (command: string, uids: Ranges) => void = () => {};
  /** Called after the command was carried out; what it throws is in the place of the answer. */
  after: (command: string) => void = () => {};
  /** Has what is expunged outside the trash put into the trash, as some hosts do. */
  handsOver = false;
  /** Called with what a search finds, and with what a fetch tells; what they give is told in its place. */
  searched: (uids: Ranges) => Ranges = (uids) => uids;
  fetched: <T>(records: T[]) => T[] = (records) => records;
  private selected: FakeFolder | undefined;

  constructor(dialect: Partial<Dialect> = {}) {
    this.dialect = { ...EVERYTHING, ...dialect };
  }

  /** A second connection to the same server, which opens folders of its own. */
  another(): FakeServer {
    const other: FakeServer = Object.create(this);
    other.selected = undefined;
    return other;
  }

  add(
    path: string,
    role: FolderRole | null,
    messages: readonly Given[] = [],
    more: Partial<FakeFolder> = {},
  ): FakeFolder {
    const plain = { path, role, repeats: false, readOnly: false, uidValidity: 7, uidNext: 1 };
    const folder: FakeFolder = { ...plain, messages: [], ...more };
    for (const given of messages) deliver(folder, given);
    this.folderList.push(folder);
    return folder;
  }

  /** Delivers a message as another program does. */
  put(path: string, given: Given): void {
    deliver(this.folder(path), given);
  }

  folder(path: string): FakeFolder {
    const found = this.folderList.find((folder) => folder.path === path);
    if (!found) throw new MailProblem('folder-gone', `There is no ${path}.`);
    return found;
  }

  get opened(): string | undefined {
    return this.selected?.path;
  }

  private get here(): FakeFolder {
    if (!this.selected) throw new Error('no folder is open');
    return this.selected;
  }

  async folders(): Promise<ListedFolder[]> {
    return this.folderList.map((folder) => ({
      serverName: folder.path,
      path: folder.path,
      delimiter: '/',
      role: folder.role,
      proposed: null,
      repeats: folder.repeats,
      selectable: true,
      status: statusOf(folder),
    }));
  }

  /** Octets that are free; undefined where there is no quota. */
  free: () => number | undefined = () => undefined;

  async quota(): Promise<Quota | null> {
    const free = this.free();
    return free === undefined ? null : { used: 0, limit: free, messages: null, messageLimit: null };
  }

  async quotaRootOf(): Promise<null> {
    return null;
  }

  async quotaRoot(): Promise<null> {
    return null;
  }

  async open(serverName: string): Promise<OpenFolder> {
    this.selected = undefined;
    this.selected = this.folder(serverName);
    return openOf(this.selected);
  }

  serverNameOf(name: string): string {
    return name;
  }

  async status(serverName: string) {
    const found = this.folderList.find(({ path }) => path === serverName);
    return found ? statusOf(found) : null;
  }

  async createFolder(serverName: string, role?: 'trash'): Promise<void> {
    // RFC 5530 §3, ALREADYEXISTS.
    if (this.folderList.some(({ path }) => path === serverName))
      throw new MailProblem('command-refused', `There is a folder ${serverName} already.`);
    this.add(serverName, role ?? null);
  }

  async uids(within?: Ranges): Promise<Ranges> {
    return this.searched(rangesOf(this.among(within).map(({ uid }) => uid)));
  }

  async uidsOneByOne(from = 1): Promise<Ranges> {
    return rangesOf(this.fetched(this.among([[from, Number.MAX_SAFE_INTEGER]]).map(({ uid }) => uid)));
  }

  async find(): Promise<Ranges> {
    return [];
  }

  async deletedUids(): Promise<Ranges> {
    return rangesOf(this.here.messages.filter(isDeleted).map(({ uid }) => uid));
  }

  async *metadata(uids: Ranges) {
    yield this.fetched(this.among(uids).map((message) => ({ ...message })));
  }

  async readWhole(serverName: string) {
    const open = await this.open(serverName);
    return { open, records: this.here.messages.map((message) => ({ ...message })) };
  }

  bareMetadata(uids: Ranges) {
    return this.metadata(uids);
  }

  async *outlines(uids: Ranges) {
    yield this.among(uids).map(({ uid, size, received, flags, from }) => ({ uid, size, received, flags, from }));
  }

  async *flags(uids: Ranges): AsyncGenerator<FlagsRecord[]> {
    yield this.fetched(this.among(uids).map(({ uid, flags, keywords }) => ({ uid, flags, keywords })));
  }

  async openAndReadFlags(serverName: string, uids: Ranges) {
    const open = await this.open(serverName);
    const flags: FlagsRecord[] = [];
    for await (const read of this.flags(uids)) flags.push(...read);
    return { open, flags };
  }

  async changes(): Promise<undefined> {
    return undefined;
  }

  move(uids: Ranges, destination: string): Promise<Moved> {
    return this.change('MOVE', uids, () => this.transfer(uids, destination, true));
  }

  copy(uids: Ranges, destination: string): Promise<Moved> {
    return this.change('COPY', uids, () => this.transfer(uids, destination, false));
  }

  markDeleted(uids: Ranges, deleted: boolean): Promise<void> {
    return this.changeFlags(uids, { flags: FLAG_BITS.deleted, keywords: [] }, deleted);
  }

  changeFlags(uids: Ranges, { flags, keywords }: FlagSet, set: boolean): Promise<void> {
    return this.change(set ? 'STORE +FLAGS' : 'STORE -FLAGS', uids, () => {
      for (const message of this.among(uids)) {
        message.flags = set ? message.flags | flags : message.flags & ~flags;
        const others = message.keywords.filter((keyword) => !keywords.includes(keyword));
        message.keywords = (set ? [...others, ...keywords] : others).sort();
      }
    });
  }

  expunge(uids: Ranges): Promise<void> {
    return this.change('UID EXPUNGE', uids, () => this.remove(this.among(uids).filter(isDeleted)));
  }

  expungeAll(): Promise<void> {
    return this.change('EXPUNGE', [], () => this.remove(this.here.messages.filter(isDeleted)));
  }

  async savedAt(): Promise<Map<number, Date>> {
    return new Map();
  }

  async text(): Promise<string> {
    return '';
  }

  async header(): Promise<string> {
    return '';
  }

  async *download({ uid, section, most }: Wanted): AsyncGenerator<Buffer> {
    const message = this.here.messages.find((each) => each.uid === uid);
    if (!message?.octets) throw new MailProblem('message-gone', 'The message is not there any more.');
    const octets = (await this.served(sectionOf(message.octets, section), section)).subarray(0, most);
    for (let at = 0; at < octets.length; at += PIECE) yield octets.subarray(at, at + PIECE);
  }

  async *downloads(wanted: readonly Wanted[]): AsyncGenerator<Downloaded> {
    for (const [of, each] of wanted.entries())
      try {
        for await (const octets of this.download(each)) yield { of, octets };
        yield { of, isAtEnd: true };
      } catch (error) {
        if (!(error instanceof MailProblem) || error.kind === 'connection-lost') throw error;
        yield { of, problem: error };
      }
  }

  /** Called with what is downloaded; what it gives is sent in its place. */
  served: (octets: Buffer, section: string) => Buffer | Promise<Buffer> = (octets) => octets;

  /** Called with the size of what is appended, before it is there; what it throws is the answer. */
  appended: (size: number) => void = () => {};

  async append(serverName: string, message: AppendedMessage): Promise<Arrived> {
    const folder = this.folder(serverName);
    this.before('APPEND', []);
    const pieces: Uint8Array[] = [];
    for await (const piece of message.read()) pieces.push(piece);
    const octets = Buffer.concat(pieces);
    if (octets.length !== message.size) throw new Error('a message was not as long as was said');
    this.appended(octets.length);
    const { flags, received } = message;
    const uid = deliver(folder, {
      ...recordOf(octets),
      octets,
      size: octets.length,
      flags,
      keywords: [...message.keywords],
      received,
    });
    this.sent.push(`APPEND ${serverName}`);
    this.after('APPEND');
    return this.dialect.uidPlus ? { uidValidity: folder.uidValidity, uid } : null;
  }

  async close(): Promise<void> {}

  private among(within?: Ranges): FakeMessage[] {
    const { messages } = this.here;
    return within ? messages.filter(({ uid }) => within.some(([from, to]) => uid >= from && uid <= to)) : messages;
  }

  private async change<T>(command: string, uids: Ranges, act: () => T): Promise<T> {
    this.before(command, uids);
    if (this.here.readOnly) throw new MailProblem('read-only', 'The folder can only be read.');
    const answer = act();
    this.sent.push(`${command} ${[...numbersOf(uids)].join(',')}`.trim());
    this.after(command);
    return answer;
  }

  private transfer(uids: Ranges, destination: string, away: boolean): Moved {
    const to = this.folder(destination);
    const members = [...this.among(uids)];
    const brought = new Map(members.map((message) => [message.uid, deliver(to, { ...message })]));
    if (away) this.here.messages = this.here.messages.filter((message) => !members.includes(message));
    return this.dialect.uidPlus ? { uidValidity: to.uidValidity, uids: brought } : null;
  }

  private remove(gone: readonly FakeMessage[]): void {
    const trash = this.folderList.find(({ role }) => role === 'trash');
    if (this.handsOver && trash && trash !== this.here)
      for (const message of gone) deliver(trash, { ...message, flags: message.flags & ~FLAG_BITS.deleted });
    this.here.messages = this.here.messages.filter((message) => !gone.includes(message));
  }
}

/** Puts a message into a folder under the next UID, which it gives. */
export function deliver(folder: FakeFolder, given: Given): number {
  const uid = folder.uidNext++;
  const day = new Date(Date.UTC(2024, 0, 1, 0, uid));
  folder.messages.push({
    emailId: null,
    received: day,
    flags: 0,
    keywords: [],
    messageId: `${folder.path}-${uid}@m.example`,
    inReplyTo: '',
    references: [],
    sent: day,
    from: { name: '', address: 'shed@quorn.example' },
    recipients: [],
    subject: `message ${uid}`,
    listId: '',
    bulkFields: {},
    files: [],
    flaws: [],
    ...given,
    uid,
  });
  return uid;
}

/** Octets that are given at a time. */
const PIECE = 1000;

function structureOf(octets: Buffer) {
  const scanner = new MimeScanner();
  scanner.push(octets);
  return scanner.end();
}

function sectionOf(octets: Buffer, section: string): Buffer {
  if (section === '') return octets;
  const part = partOfSection(structureOf(octets), section);
  if (!part) throw new MailProblem('message-gone', 'There is no such part.');
  return octets.subarray(part.bodyFrom, part.bodyTo);
}

/** What a server tells of a message that it was given. */
export function recordOf(octets: Buffer): Pick<MessageRecord, 'messageId' | 'subject' | 'files'> {
  const { parts } = structureOf(octets);
  const fields = fieldsOf(parts[0]?.header ?? '');
  const headerValue = (wanted: string) => fields.find(({ name }) => name === wanted)?.value ?? '';
  const files = parts.flatMap((part): MessageFile[] => {
    const name = /\bname="?([^";\r\n]+)"?/i.exec(part.header)?.[1] ?? '';
    const isNote = part.header.includes(NOTE_DESCRIPTION);
    const found = part.type.startsWith('multipart/') || isNote ? null : fileOf(part.type, name, null);
    const { section, type, encoding } = part;
    const size = part.bodyTo - part.bodyFrom;
    return found ? [{ ...found, type, part: section, encoding, size, inside: 0, enclosed: false }] : [];
  });
  return { messageId: headerValue('message-id'), subject: headerValue('subject'), files };
}

const isDeleted = ({ flags }: MessageRecord) => (flags & FLAG_BITS.deleted) !== 0;

function statusOf({ messages, uidNext, uidValidity }: FakeFolder) {
  const bytes = messages.reduce((sum, { size }) => sum + size, 0);
  return { messages: messages.length, bytes, uidNext, uidValidity, modSeq: null };
}

function openOf({ messages, uidNext, uidValidity, readOnly }: FakeFolder): OpenFolder {
  return { uidValidity, uidNext, messages: messages.length, modSeq: null, readOnly };
}
