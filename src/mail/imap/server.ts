import type { SearchKey } from '../../core/criteria/imap';
import { FLAG_BITS, type FlagSet } from '../../core/mailbox/flags';
import type { MessageRecord } from '../../core/mailbox/record';
import { countOf, intersection, MAX_UID, type Ranges, rangesOf } from '../../core/sets/ranges';
import { MailProblem } from '../problem';
import type {
  AppendedMessage,
  Arrived,
  Dialect,
  Downloaded,
  FlagsRecord,
  FolderChanges,
  FolderStatus,
  ListedFolder,
  MailServer,
  Moved,
  OpenFolder,
  Outline,
  Quota,
  QuotaRoot,
  Wanted,
} from '../server';
import { copiedUids } from './answers/copyuid';
import { type Opened, OpenedAnswer } from './answers/opened';
import { readSet, SearchAnswer } from './answers/search';
import { Channel } from './channel/channel';
import type { Command, Sent, Untagged } from './channel/dialogue';
import { ignoreRefusal, unreadable, whole } from './channel/faults';
import type { Library } from './channel/library';
import { refusal } from './channel/refusals';
import type { Patience } from './channel/timeouts';
import { astring, flagWords, isAscii, joined, type Piece, searchKeys } from './commands';
import { type BulkFetch, fetchCommand, fetchInBulk } from './fetch/bulk';
import { AUTHORS, FLAGS, OutlineReader, readFlagsRecord, readSavedAt, readUid } from './fetch/outline';
import { BARE_METADATA, METADATA, readRecord } from './fetch/record';
import { FetchRate, Windows } from './fetch/windows';
import { FolderList } from './folder-list';
import { FolderNames } from './folder-names';
import { messageHeader, messageText } from './message-text';
import { Quotas } from './quotas';
import { append, sectionOctets, sectionsOctets } from './transfer';
import { cut, printed, SetLength } from './wire/sets';
import type { Status } from './wire/status';

/** Messages that one SEARCH looks through, so that no answer is longer than a response may be. */
const SEARCHED_AT_ONCE = 50_000;
/** How often a search is made anew because others expunged meanwhile. */
const MAX_SEARCHES = 5;
/** What is known of the folder that is open. */
interface Selected {
  serverName: string;
  messages: number;
  uidNext: number;
  /** Whether messages came in since it was opened, which may have any UID from `uidNext` on. */
  grew: boolean;
  /** How often it was told that messages went. */
  losses: number;
}

/** An IMAP connection, signed in. */
export class ImapServer implements MailServer {
  readonly dialect: Dialect;
  readonly personalPrefix: string;
  private readonly channel: Channel;
  private readonly names: FolderNames;
  private readonly folderList: FolderList;
  private readonly quotas: Quotas;
  private readonly rate = new FetchRate();
  private readonly setLength: SetLength;
  private readonly enabled = new Set<string>();
  private selected: Selected | undefined;

  private constructor(
    private readonly library: Library,
    host: string,
    private readonly patience: Patience,
  ) {
    const has = this.has.bind(this);
    this.names = new FolderNames(has('IMAP4REV2') && !has('IMAP4REV1'));
    this.setLength = new SetLength(host);
    this.channel = new Channel(library, (response) => this.unasked(response));
    this.dialect = {
      move: has('MOVE') || has('IMAP4REV2'),
      uidPlus: has('UIDPLUS') || has('IMAP4REV2'),
      condStore: has('CONDSTORE'),
      quota: has('QUOTA'),
      within: has('WITHIN'),
      createSpecialUse: has('CREATE-SPECIAL-USE'),
    };
    this.personalPrefix = this.names.readable(library.personalPrefix);
    this.folderList = new FolderList(this.channel, this.names, has, patience, this.personalPrefix);
    this.quotas = new Quotas(this.channel, this.dialect.quota, patience);
  }

  /** Takes a connection that is signed in, and enables what is used of the server's extensions. */
  static async over(library: Library, host: string, patience: Patience): Promise<ImapServer> {
    const server = new ImapServer(library, host, patience);
    await server.enable();
    return server;
  }

  get opened(): string | undefined {
    return this.selected?.serverName;
  }

  private has(capability: string): boolean {
    return this.library.capabilities.has(capability);
  }

  /** Mod-sequences, and one VANISHED instead of a line a message (RFC 7162 §3.2.10). */
  private async enable(): Promise<void> {
    const wanted = ['CONDSTORE', 'QRESYNC'].filter((name) => this.has(name));
    if (wanted.length === 0 || !this.has('ENABLE')) return;
    const take = ({ word, cursor }: Untagged) => {
      if (word !== 'ENABLED') return false;
      while (!cursor.isDone()) this.enabled.add(cursor.word());
      return true;
    };
    await this.channel.run({ pieces: [`ENABLE ${wanted.join(' ')}`], patience: this.patience.plain, take });
  }

  /** Keeps up with what a server tells of the open folder by itself. */
  private unasked({ word, number = 0, cursor }: Untagged): void {
    const { selected } = this;
    if (!selected) return;
    if (word === 'EXISTS') {
      selected.grew ||= number > selected.messages;
      selected.messages = number;
    } else if (word === 'EXPUNGE') this.lose(1);
    else if (word === 'VANISHED' && !cursor.isList()) {
      let gone = 0;
      for (const [first, last] of readSet(cursor.octets())) gone += last - first + 1;
      this.lose(gone);
    }
  }

  private lose(messages: number): void {
    if (!this.selected) return;
    this.selected.messages = Math.max(0, this.selected.messages - messages);
    this.selected.losses++;
  }

  folders(): Promise<ListedFolder[]> {
    return this.folderList.all();
  }

  status(serverName: string, withUnseen = false): Promise<FolderStatus | null> {
    return this.folderList.status(serverName, withUnseen);
  }

  quota(): Promise<Quota | null> {
    return this.quotas.ofMailbox();
  }

  quotaRootOf(serverName: string): Promise<QuotaRoot | null> {
    return this.quotas.rootOf(serverName);
  }

  quotaRoot(name: string): Promise<QuotaRoot | null> {
    return this.quotas.root(name);
  }

  serverNameOf(name: string): string {
    return this.names.wire(name);
  }

  async open(serverName: string): Promise<OpenFolder> {
    return this.keepOpened(serverName, await this.selecting(serverName).ended());
  }

  /** Sends SELECT; another command may be sent behind it. */
  private selecting(serverName: string): { sent: Sent; ended(): Promise<Opened> } {
    const answer = new OpenedAnswer();
    // Until it is answered no folder is open (RFC 9051 §6.3.2).
    this.selected = undefined;
    const parameter = this.dialect.condStore && !this.enabled.has('CONDSTORE') ? ' (CONDSTORE)' : '';
    const sent = this.channel.send({
      pieces: joined('SELECT ', astring(serverName), parameter),
      patience: this.patience.open,
      take: (response) => answer.take(response),
    });
    const ended = async () => {
      try {
        const status = await this.channel.done(sent);
        return whole(() => answer.ended(status));
      } catch (error) {
        const { status } = sent;
        throw status && status.kind !== 'OK' ? refusal(status, this.names.readable(serverName)) : error;
      }
    };
    return { sent, ended };
  }

  private async keepOpened(serverName: string, told: Opened): Promise<OpenFolder> {
    const { messages, uidValidity, modSeq, readOnly } = told;
    this.selected = { serverName, messages, uidNext: told.uidNext ?? MAX_UID + 1, grew: false, losses: 0 };
    if (told.uidNext === null) this.selected.uidNext = messages === 0 ? 1 : (await this.lastUid()) + 1;
    return { messages, uidValidity, uidNext: this.selected.uidNext, modSeq, readOnly };
  }

  /** The UID of the last message, since UIDs rise with the numbers (RFC 9051 §2.3.1.1). */
  private async lastUid(): Promise<number> {
    const uids = await this.readUids('FETCH * (UID)', 1);
    const last = uids.at(-1);
    if (last === undefined) throw unreadable('The server does not tell the UID of the last message.');
    return last;
  }

  /** Of a fetch of one command. */
  private get alone() {
    return { next: () => undefined, patience: this.patience.plain };
  }

  private async readUids(text: string, messages: number): Promise<number[]> {
    const uids: number[] = [];
    await this.channel.run({
      pieces: [text],
      patience: this.patience.plain,
      maxResponses: 2 * messages + 10_000,
      take({ word, cursor }) {
        if (word !== 'FETCH') return false;
        const uid = readUid(cursor);
        if (uid !== undefined) uids.push(uid);
        return uid !== undefined;
      },
    });
    return uids;
  }

  async createFolder(serverName: string, role?: 'trash'): Promise<void> {
    const use = role && this.dialect.createSpecialUse ? ' (USE (\\Trash))' : '';
    await this.channel.run({ pieces: joined('CREATE ', astring(serverName), use), patience: this.patience.plain });
  }

  async uids(within?: Ranges): Promise<Ranges> {
    if (!within) return this.search([' ALL']);
    const first = within[0]?.[0];
    const last = within.at(-1)?.[1];
    if (first === undefined || last === undefined) return [];
    const [set, ranges] = printed(within, this.setLength.octets);
    if (ranges === within.length)
      try {
        return intersection(await this.search([` UID ${set}`]), within);
      } catch (error) {
        // The set may be longer than the server takes: all between its ends are asked for.
        if (!isRefused(error) || !this.setLength.shorten(set)) throw error;
      }
    return intersection(await this.search([` UID ${first}:${last}`]), within);
  }

  async uidsOneByOne(from = 1): Promise<Ranges> {
    const { serverName, messages } = this.folder;
    if (messages > 0) {
      // The last message is told of whatever its UID (RFC 9051 §9, seq-range): no answer at all contradicts EXISTS.
      const told = await this.readUids(`UID FETCH ${from}:* (UID)`, messages);
      if (told.length > 0) return intersection(rangesOf(told), [[from, MAX_UID]]);
      // Courier tells nothing of a set that begins beyond the last message, which it tells of by its number.
      if (this.folder.messages > 0 && (from === 1 || (await this.lastUid()) >= from))
        throw unreadable('The server says that a folder holds messages, and tells of none of them.');
      return [];
    }
    // An empty folder has nothing that could be asked for by number.
    const status = await this.status(serverName);
    if (status?.messages === 0) return [];
    throw unreadable('The server says in one answer that a folder is empty, and in another that it is not.');
  }

  find(keys: readonly SearchKey[]): Promise<Ranges> {
    return this.search(searchKeys(keys), isAscii(keys) ? '' : ' CHARSET UTF-8');
  }

  deletedUids(): Promise<Ranges> {
    return this.search([' DELETED']);
  }

  private get folder(): Selected {
    if (!this.selected) throw new Error('No folder is open.');
    return this.selected;
  }

  /** Searches the open folder, a part of it at a time, and anew where others expunged meanwhile: the numbers of parts shift. */
  private async search(keys: readonly Piece[], charset = ''): Promise<Ranges> {
    for (let tries = 0; tries < MAX_SEARCHES; tries++) {
      const { losses } = this.folder;
      const found = await this.searchOnce(keys, charset);
      if (this.folder.losses === losses || this.folder.messages <= SEARCHED_AT_ONCE) return found;
    }
    throw unreadable('The folder changes faster than it can be read.');
  }

  private async searchOnce(keys: readonly Piece[], charset: string): Promise<Ranges> {
    const { messages } = this.folder;
    const returns = this.has('ESEARCH') || this.has('IMAP4REV2') ? ' RETURN (ALL COUNT)' : '';
    const parts: string[] = [];
    if (messages <= SEARCHED_AT_ONCE) parts.push('');
    else
      for (let first = 1; first <= messages; first += SEARCHED_AT_ONCE)
        parts.push(` ${first}:${Math.min(messages, first + SEARCHED_AT_ONCE - 1)}`);
    const found: [number, number][] = [];
    // One after the other: nothing in SEARCH tells which command it answers.
    for (const part of parts) {
      const answer = new SearchAnswer();
      await this.channel.run({
        pieces: joined(`UID SEARCH${returns}${charset}${part}`, ...keys),
        patience: this.patience.search,
        take: (response, tag) => answer.take(response, tag),
      });
      const { folder } = this;
      const bounds = {
        messages: part === '' ? Math.max(messages, folder.messages) : SEARCHED_AT_ONCE,
        uidNext: folder.grew ? MAX_UID + 1 : folder.uidNext,
      };
      for (const range of whole(() => answer.ended(bounds))) appendRange(found, range);
    }
    return found;
  }

  metadata(uids: Ranges): AsyncIterable<MessageRecord[]> {
    return this.bulk(uids, this.allItems, { read: readRecord, passes: true });
  }

  async readWhole(
    serverName: string,
    messages: number,
  ): Promise<{ open: OpenFolder; records: MessageRecord[] } | undefined> {
    const records = new Map<number, MessageRecord>();
    const fetch = { ...this.alone, read: readRecord, passes: true };
    const selecting = this.selecting(serverName);
    const command = fetchCommand({ text: '', messages }, fetch, (record) => records.set(record.uid, record));
    const reading = this.channel.send({ ...command, pieces: [`FETCH 1:${messages} ${this.allItems}`] });
    let open: OpenFolder;
    try {
      open = await this.keepOpened(serverName, await selecting.ended());
      await this.channel.done(reading);
    } catch (error) {
      // There may be fewer by now, or no folder.
      ignoreRefusal(error);
      return undefined;
    }
    const isWhole = open.messages === messages && records.size === messages;
    return isWhole && [...records.keys()].every((uid) => uid < open.uidNext)
      ? { open, records: [...records.values()] }
      : undefined;
  }

  private get allItems(): string {
    return this.has('OBJECTID') ? `(${METADATA} EMAILID)` : `(${METADATA})`;
  }

  bareMetadata(uids: Ranges): AsyncIterable<MessageRecord[]> {
    return this.bulk(uids, `(${BARE_METADATA})`, { read: readRecord, passes: true });
  }

  outlines(uids: Ranges): AsyncIterable<Outline[]> {
    const reader = new OutlineReader();
    return this.bulk(uids, `(${AUTHORS})`, { read: (cursor) => reader.read(cursor), passes: true });
  }

  flags(uids: Ranges): AsyncIterable<FlagsRecord[]> {
    return this.bulk(uids, `(${FLAGS})`, { read: readFlagsRecord, passes: false });
  }

  async openAndReadFlags(serverName: string, uids: Ranges): Promise<{ open: OpenFolder; flags: FlagsRecord[] }> {
    const flags: FlagsRecord[] = [];
    const [set, ranges] = printed(uids, this.setLength.octets);
    if (ranges < uids.length || set === '') {
      const open = await this.open(serverName);
      return { open, flags: (await collected(this.flags(uids))).flat() };
    }
    const selecting = this.selecting(serverName);
    const fetch = { ...this.alone, read: readFlagsRecord, passes: false };
    const text = `${set} (${FLAGS})`;
    const reading = this.channel.send(
      fetchCommand({ text, messages: countOf(uids) }, fetch, (record) => flags.push(record)),
    );
    const open = await this.keepOpened(serverName, await selecting.ended());
    try {
      await this.channel.done(reading);
      return { open, flags };
    } catch (error) {
      if (!isRefused(error) || !this.setLength.shorten(set)) throw error;
    }
    return { open, flags: (await collected(this.flags(uids))).flat() };
  }

  async changes(since: number): Promise<FolderChanges | undefined> {
    if (!this.dialect.condStore) return undefined;
    const changed: FlagsRecord[] = [];
    const vanished: (readonly [number, number])[] = [];
    const vanishing = this.enabled.has('QRESYNC') ? ' VANISHED' : '';
    const text = `1:* (${FLAGS}) (CHANGEDSINCE ${since}${vanishing})`;
    const fetch = { ...this.alone, read: readFlagsRecord, passes: false };
    const command = fetchCommand({ text, messages: this.folder.messages }, fetch, (record) => changed.push(record));
    await this.channel.run({
      ...command,
      take: (response, tag) => {
        if (response.word !== 'VANISHED') return command.take?.(response, tag) ?? false;
        // Without EARLIER it tells of what went just now (RFC 7162 §3.2.10.2), which is counted as such.
        if (!response.cursor.isList()) return false;
        response.cursor.skip();
        for (const range of readSet(response.cursor.octets())) vanished.push(range);
        return true;
      },
    });
    return { vanished: sortedRanges(vanished), changed };
  }

  /** The first command of a connection shows how fast the line is, and whether it is worth the work to deflate it. */
  private async *bulk<T>(uids: Ranges, items: string, how: Pick<BulkFetch<T>, 'read' | 'passes'>): AsyncGenerator<T[]> {
    const windows = new Windows(uids, items, this.rate, this.setLength);
    const answered = (octets: number) => windows.answered(octets);
    const refused = () => windows.refused();
    const { plain: patience } = this.patience;
    if (!this.rate.isKnown) {
      const probe = [windows.next()];
      yield* fetchInBulk(this.channel, { ...how, next: () => probe.pop(), answered, refused, patience });
      if (this.rate.isSlow && this.has('COMPRESS=DEFLATE')) await this.channel.lend(() => this.library.compress());
    }
    yield* fetchInBulk(this.channel, { ...how, next: () => windows.next(), answered, refused, patience });
  }

  move(uids: Ranges, destination: string, messages: number): Promise<Moved> {
    return this.transfer('UID MOVE', uids, destination, messages);
  }

  copy(uids: Ranges, destination: string, messages: number): Promise<Moved> {
    return this.transfer('UID COPY', uids, destination, messages);
  }

  private async transfer(command: string, uids: Ranges, destination: string, most: number): Promise<Moved> {
    let moved: Moved = null;
    const note = (status: Status | undefined) => {
      const told = status && copiedUids(status, most);
      if (!told) return false;
      moved ??= { uidValidity: told.uidValidity, uids: new Map() };
      for (const [from, to] of told.uids) moved.uids.set(from, to);
      return true;
    };
    await this.change(uids, (set) => ({
      pieces: joined(`${command} ${set} `, astring(destination)),
      take: ({ status }) => note(status),
      ended: note,
    }));
    return moved;
  }

  markDeleted(uids: Ranges, deleted: boolean): Promise<void> {
    return this.changeFlags(uids, { flags: FLAG_BITS.deleted, keywords: [] }, deleted);
  }

  async changeFlags(uids: Ranges, change: FlagSet, set: boolean): Promise<void> {
    const item = `${set ? '+' : '-'}FLAGS.SILENT (${flagWords(change)})`;
    await this.change(uids, (numbers) => ({ pieces: [`UID STORE ${numbers} ${item}`] }));
  }

  async expunge(uids: Ranges): Promise<void> {
    await this.change(uids, (set) => ({ pieces: [`UID EXPUNGE ${set}`] }));
  }

  async expungeAll(): Promise<void> {
    await this.channel.run({ pieces: ['EXPUNGE'], patience: this.patience.change });
  }

  /**
   * Sends a change to messages, in as many commands as their set has to be cut into. BAD says that the command was not
   * carried out (RFC 9051 §7.1.3), so a set that is too long for the server is sent again in two.
   */
  private async change(
    uids: Ranges,
    command: (set: string) => Pick<Command, 'pieces' | 'take'> & { ended?: (status: Status) => void },
  ): Promise<void> {
    const sets = [...cut(uids, this.setLength.octets)];
    for (let set = sets.shift(); set !== undefined; set = sets.shift()) {
      const { ended, ...rest } = command(set);
      const sent = this.channel.send({ ...rest, patience: this.patience.change, maxResponses: MAX_UID });
      try {
        const status = await this.channel.done(sent);
        ended?.(status);
      } catch (error) {
        if (error instanceof MailProblem && error.kind === 'connection-lost') this.setLength.lostOver(set);
        if (sent.status?.kind !== 'BAD' || !this.setLength.shorten(set)) throw error;
        sets.unshift(...cut([...readSet(set)], this.setLength.octets));
      }
    }
  }

  async savedAt(uids: Ranges): Promise<Map<number, Date>> {
    const saved = new Map<number, Date>();
    if (!this.has('SAVEDATE')) return saved;
    for await (const read of this.bulk(uids, '(UID SAVEDATE)', { read: readSavedAt, passes: true }))
      for (const { uid, at } of read) if (at) saved.set(uid, at);
    return saved;
  }

  text(uid: number): Promise<string> {
    return messageText(this.channel, uid, this.patience);
  }

  download(wanted: Wanted): AsyncIterable<Buffer> {
    return sectionOctets(this.channel, wanted, this.patience);
  }

  downloads(wanted: readonly Wanted[]): AsyncIterable<Downloaded> {
    return sectionsOctets(this.channel, wanted, this.patience);
  }

  append(serverName: string, message: AppendedMessage): Promise<Arrived> {
    return append(this.channel, serverName, message, this.patience);
  }

  header(uid: number): Promise<string> {
    return messageHeader(this.channel, uid, this.patience);
  }

  close(): Promise<void> {
    return this.channel.close();
  }
}

function isRefused(error: unknown): boolean {
  return error instanceof MailProblem && error.kind === 'command-refused';
}

async function collected<T>(iterable: AsyncIterable<T>): Promise<T[]> {
  const all: T[] = [];
  for await (const one of iterable) all.push(one);
  return all;
}

/** Appends what the next part of a folder holds: its UIDs are higher than those of the part before. */
function appendRange(found: [number, number][], [first, last]: readonly [number, number]): void {
  const open = found.at(-1);
  if (open && first <= open[1]) throw unreadable('The server’s answer could not be read: its UIDs do not rise.');
  if (open && first === open[1] + 1) open[1] = last;
  else found.push([first, last]);
}

function sortedRanges(ranges: readonly (readonly [number, number])[]): Ranges {
  const sorted: [number, number][] = [];
  for (const [first, last] of [...ranges].sort((a, b) => a[0] - b[0])) {
    const open = sorted.at(-1);
    if (open && first <= open[1] + 1) open[1] = Math.max(open[1], last);
    else sorted.push([first, last]);
  }
  return sorted;
}
