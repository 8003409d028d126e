import { numbersOf, rangesOf } from '../../src/core/sets/ranges';
import { type Item, rawItem } from '../message/item';
import type { OutlinedMessage, Scenario, ScenarioFolder } from '../scenario/mailbox';
import { Folder, indexOfUid, type Placed } from './folder';
import type { Change, Journal } from './journal';

/** What a message is added with. */
export interface NewMessage {
  ref: string;
  item: Item;
  received: number;
  /** The same as `received` where it is not said. */
  saved?: number;
  flags: Iterable<string>;
}

/** Days that lie in the trash at most, in the scenario. */
const TRASH_DAYS = 28;

export class OverQuota extends Error {}

/** Every mailbox begins above this UIDVALIDITY, one of other mail at another; a change of it counts up. */
const FIRST_VALIDITY = 1_600_000_000;

/** All folders of one user, their quota, and the journal that keeps them. */
export class Mailbox {
  readonly folders = new Map<string, Folder>();
  private modSeq = 1;
  private appended = 0;
  private readonly items = new Map<string, Item>();
  /** Folders whose messages are made when somebody looks at them. */
  private readonly outlined: Folder[] = [];
  private everyMessage: Folder | undefined;
  /** Figures of the past, for a quota that lags: [ms since the epoch, octets]. */
  private readonly history: [number, number][] = [];

  constructor(
    scenario: Scenario,
    private readonly journal: Journal,
    readonly limit: number = scenario.limit,
    readonly messageLimit: number | undefined = undefined,
    /** Adds a folder that repeats every message outside Trash and Junk. */
    withEveryMessage = false,
  ) {
    this.notMail = scenario.notMail;
    const outlined = scenario.folders.reduce((sum, { outline }) => sum + (outline?.messages ?? 0), 0);
    const validity = FIRST_VALIDITY + 1_000 * (scenario.messages.length + outlined);
    for (const folder of scenario.folders) this.makeFolder(folder.name, validity, folder.use, folder.outline);
    if (withEveryMessage) this.everyMessage = this.makeFolder('Everything', validity, '\\All');
    const newest = scenario.messages.reduce((last, { received }) => Math.max(last, received), 0);
    for (const [index, message] of scenario.messages.entries()) {
      const ref = `b${index}`;
      this.items.set(ref, message.item);
      const flags = [
        message.seen && 'seen',
        message.answered && 'answered',
        message.flagged && 'flagged',
        message.draft && 'draft',
      ];
      const folder = this.folders.get(message.folder) as Folder;
      this.put(folder, folder.uidNext, {
        ref,
        item: message.item,
        received: message.received,
        saved:
          folder.use === '\\Trash'
            ? Math.max(message.received, newest - ((index * 5) % TRASH_DAYS) * 86_400 - (index % 86_400))
            : message.received,
        flags: flags.filter((flag) => flag !== false),
      });
    }
    for (const entry of journal.read()) for (const change of entry) this.apply(change);
    this.note();
  }

  private notMail: number;
  private shared: (() => number) | undefined;

  /** Told every change before it is made; for checks. */
  watcher: ((changes: readonly Change[]) => void) | undefined;

  /** Octets in use, what is not mail included; in the past where the figure lags. */
  used(lagSeconds = 0): number {
    if (lagSeconds > 0) {
      const then = Date.now() - lagSeconds * 1000;
      return this.history.findLast(([at]) => at <= then)?.[1] ?? this.history[0]?.[1] ?? this.usedNow();
    }
    return this.usedNow();
  }

  private usedNow(): number {
    let used = this.shared ? this.shared() : this.notMail;
    for (const folder of this.folders.values()) if (folder !== this.everyMessage) used += folder.bytes;
    return used;
  }

  /** What is not mail is counted elsewhere from now on, in octets. */
  shareWith(others: () => number): void {
    this.shared = others;
    this.note();
  }

  /** Files come to what shares the limit with mail, as far as there is room. */
  addFiles(octets: number): void {
    this.notMail += Math.max(0, Math.min(octets, this.limit - this.usedNow()));
    this.note();
  }

  messageCount(): number {
    let count = 0;
    for (const folder of this.folders.values()) if (folder !== this.everyMessage) count += folder.count;
    return count;
  }

  /** Whether a folder is a view whose messages live elsewhere. */
  isView(folder: Folder): boolean {
    return folder === this.everyMessage;
  }

  folder(name: string): Folder | undefined {
    return this.folders.get(name.toUpperCase() === 'INBOX' ? 'INBOX' : name);
  }

  create(name: string, use?: string): void {
    const uidValidity = FIRST_VALIDITY + this.modSeq;
    this.commit([{ op: 'create', folder: name, uidValidity, ...(use ? { use } : {}) }]);
  }

  delete(name: string): void {
    this.commit([{ op: 'delete', folder: name }]);
  }

  rename(name: string, to: string): void {
    this.commit([{ op: 'rename', folder: name, to }]);
  }

  changeUidValidity(name: string): void {
    const folder = this.folder(name) as Folder;
    this.commit([{ op: 'validity', folder: folder.name, uidValidity: folder.uidValidity + 1 }]);
  }

  append(folder: Folder, octets: Buffer, received: number, flags: Iterable<string>): Placed {
    if (this.usedNow() + octets.length > this.limit) throw new OverQuota();
    const ref = `a${++this.appended}`;
    this.journal.saveAppended(ref, octets);
    this.items.set(ref, rawItem(octets));
    return this.add(folder, [{ ref, received, flags: [...flags] }])[0] as Placed;
  }

  /** @throws OverQuota where the copies don't fit; then none is made. */
  copy(messages: readonly Placed[], to: Folder): Placed[] {
    const octets = messages.reduce((sum, { item }) => sum + item.size, 0);
    if (this.usedNow() + octets > this.limit) throw new OverQuota();
    return this.add(
      to,
      messages.map(({ ref, received, flags }) => ({ ref, received, flags: [...flags] })),
    );
  }

  /** MOVE (RFC 6851): never in both folders, never in none, and no room needed. */
  move(from: Folder, messages: readonly Placed[], to: Folder): Placed[] {
    const first = to.uidNext;
    const saved = Math.floor(Date.now() / 1000);
    const placed = messages.map(({ ref, received, flags }, index) => ({
      uid: first + index,
      ref,
      received,
      saved,
      flags: [...flags],
    }));
    this.commit([
      { op: 'remove', folder: from.name, uids: rangesOf(messages.map(({ uid }) => uid)) },
      { op: 'add', folder: to.name, placed },
    ]);
    return to.messages.slice(indexOfUid(to.messages, first));
  }

  expunge(folder: Folder, messages: readonly Placed[]): void {
    if (messages.length > 0)
      this.commit([{ op: 'remove', folder: folder.name, uids: rangesOf(messages.map(({ uid }) => uid)) }]);
  }

  setFlags(folder: Folder, changes: readonly { placed: Placed; flags: Set<string> }[]): void {
    const groups = new Map<string, number[]>();
    for (const { placed, flags } of changes) {
      const key = [...flags].sort().join(' ');
      groups.set(key, [...(groups.get(key) ?? []), placed.uid]);
    }
    const entries = [...groups].map(
      ([key, uids]): Change => ({
        op: 'flags',
        folder: folder.name,
        uids: rangesOf(uids),
        flags: key.split(' ').filter(Boolean),
      }),
    );
    if (entries.length > 0) this.commit(entries);
  }

  private add(folder: Folder, messages: { ref: string; received: number; flags: string[] }[]): Placed[] {
    const first = folder.uidNext;
    const saved = Math.floor(Date.now() / 1000);
    this.commit([
      {
        op: 'add',
        folder: folder.name,
        placed: messages.map((message, index) => ({ uid: first + index, saved, ...message })),
      },
    ]);
    return folder.messages.slice(indexOfUid(folder.messages, first));
  }

  /** Writes first, then does: what a client was told of survives a crash. */
  private commit(changes: Change[]): void {
    this.journal.write(changes);
    this.watcher?.(changes);
    for (const change of changes) this.apply(change);
    this.note();
  }

  private note(): void {
    this.history.push([Date.now(), this.usedNow()]);
    if (this.history.length > 5_000) this.history.splice(0, 2_500);
  }

  private apply(change: Change): void {
    if (change.op === 'create') {
      this.makeFolder(change.folder, change.uidValidity, change.use);
      return;
    }
    const folder = this.folders.get(change.folder) as Folder;
    switch (change.op) {
      case 'add':
        for (const message of change.placed)
          this.put(folder, message.uid, { ...message, item: this.itemOf(message.ref) });
        break;
      case 'remove':
        this.take(folder, new Set(numbersOf(change.uids)));
        break;
      case 'flags': {
        folder.modSeq = ++this.modSeq;
        for (const uid of numbersOf(change.uids)) {
          const placed = folder.messages[indexOfUid(folder.messages, uid)];
          if (placed?.uid !== uid) continue;
          placed.flags = new Set(change.flags);
          placed.modSeq = this.modSeq;
        }
        break;
      }
      case 'delete':
        this.take(folder, new Set(folder.messages.map(({ uid }) => uid)));
        this.folders.delete(change.folder);
        break;
      case 'rename':
        this.folders.delete(change.folder);
        folder.name = change.to;
        this.folders.set(change.to, folder);
        break;
      case 'validity':
        this.renumber(folder, change.uidValidity);
        break;
    }
  }

  /** The content of a message, by its name. */
  itemOf(ref: string): Item {
    let item = this.items.get(ref);
    // Of an outline whose messages are not made yet.
    if (!item && /^o\d+_/.test(ref)) {
      void this.outlined[Number(ref.slice(1, ref.indexOf('_')))]?.messages;
      item = this.items.get(ref);
    }
    if (!item) {
      item = rawItem(this.journal.readAppended(ref));
      this.items.set(ref, item);
      this.appended = Math.max(this.appended, Number(ref.slice(1)));
    }
    return item;
  }

  private makeFolder(
    name: string,
    uidValidity: number,
    use: string | undefined,
    outline?: ScenarioFolder['outline'],
  ): Folder {
    const modSeq = ++this.modSeq;
    const number = this.outlined.length;
    const make = () => this.made(number, outline?.make() ?? [], modSeq);
    const folder = new Folder(name, use, uidValidity, modSeq, outline && { ...outline, make });
    if (outline) this.outlined.push(folder);
    this.folders.set(name, folder);
    return folder;
  }

  /** The messages of an outline, in their places. */
  private made(outline: number, messages: readonly OutlinedMessage[], modSeq: number): Placed[] {
    return messages.map(({ item, received, saved = received, seen }, index) => {
      const ref = `o${outline}_${index}`;
      this.items.set(ref, item);
      const flags = new Set(seen ? ['seen'] : []);
      return { uid: index + 1, ref, item, received, saved, flags, modSeq, gone: false };
    });
  }

  private put(folder: Folder, uid: number, message: NewMessage): Placed {
    folder.modSeq = ++this.modSeq;
    const { ref, item, received, saved = received } = message;
    const placed: Placed = {
      uid,
      ref,
      item,
      received,
      saved,
      flags: new Set(message.flags),
      modSeq: this.modSeq,
      gone: false,
    };
    folder.messages.push(placed);
    folder.uidNext = uid + 1;
    folder.bytes += item.size;
    if (this.everyMessage && folder !== this.everyMessage && folder.use !== '\\Trash' && folder.use !== '\\Junk') {
      placed.mirror = this.put(this.everyMessage, this.everyMessage.uidNext, message);
    }
    return placed;
  }

  private take(folder: Folder, uids: ReadonlySet<number>): void {
    folder.modSeq = ++this.modSeq;
    const mirrors = new Set<number>();
    const kept: Placed[] = [];
    for (const placed of folder.messages) {
      if (!uids.has(placed.uid)) {
        kept.push(placed);
        continue;
      }
      placed.gone = true;
      folder.bytes -= placed.item.size;
      if (placed.mirror) mirrors.add(placed.mirror.uid);
    }
    folder.messages = kept;
    if (mirrors.size > 0 && this.everyMessage) this.take(this.everyMessage, mirrors);
  }

  private renumber(folder: Folder, uidValidity: number): void {
    folder.uidValidity = uidValidity;
    folder.modSeq = ++this.modSeq;
    const old = folder.messages;
    folder.messages = old.map((placed, index) => ({ ...placed, uid: index + 1, modSeq: this.modSeq }));
    for (const placed of old) placed.gone = true;
    folder.uidNext = folder.messages.length + 1;
  }
}
