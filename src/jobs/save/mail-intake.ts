import type { Bag as BagFolder, BaggedFile } from '../../archive/bag';
import type { MboxFile } from '../../archive/mbox-file';
import { fromLine } from '../../core/archive/mbox';
import { mboxPath } from '../../core/archive/mbox-path';
import { flagNames } from '../../core/mailbox/flags';
import { fold } from '../../core/text';
import type { Account } from '../../store/access/accounts';
import { type Bag, type BaggedMessage, baggedMessages, mboxesOf, type PendingFile } from '../../store/archive/bags';
import type { Database } from '../../store/database';
import { batches } from '../batches';
import { type Intake, isReadSince, type ReadBack, type Received } from './intake';
import { pages } from './pages';

/** Messages that are looked up at a time, and whose verdicts are given together. */
const PAGE = 500;
/** Octets from which on an mbox file gets no more messages. */
const MOST_OCTETS = 2 ** 30;

/** What of a message its place is told from. */
type ArrivingMail = Pick<PendingFile, 'address' | 'received' | 'folder' | 'size'>;

/** Messages in mbox files (RFC 4155), one or more for each folder, each of at most a gibibyte unless one message is larger. */
export class MailIntake implements Intake {
  private open: { folder: string; path: string; file: MboxFile } | undefined;
  /** Folded paths that files have. */
  private taken = new Set<string>();
  /** By folded path, the number that was given last to a file of that name. */
  private readonly numbers = new Map<string, number>();
  /** Files that were written from their first octet to the last, by path. */
  private readonly written = new Map<string, BaggedFile>();

  constructor(
    private readonly database: Database,
    private readonly account: Account,
    private readonly bag: Bag,
    private readonly folder: BagFolder,
    private readonly mostOctets = MOST_OCTETS,
  ) {}

  async begin(): Promise<void> {
    const noted = await this.mboxes();
    await this.folder.cutTo(noted);
    this.taken = new Set([...noted.keys()].map(fold));
  }

  async ready(): Promise<void> {}

  async receive(message: ArrivingMail, octets: AsyncIterable<Buffer>): Promise<Received> {
    const { path, file } = await this.fileFor(message);
    const added = await file.add(fromLine(message.address, message.received), octets);
    const { at, length, size, sha256 } = added;
    return {
      kept: async () => {
        await file.flush();
        return { path, size, sha256, at, length };
      },
      takeBack: () => file.takeBack(at),
    };
  }

  /** The file that a message goes into: a new one for another folder, and where it has no room there. */
  private async fileFor({ folder, size }: ArrivingMail): Promise<{ path: string; file: MboxFile }> {
    const { open } = this;
    if (open?.folder === folder && (open.file.end === 0 || open.file.end + size <= this.mostOctets)) return open;
    await this.end();
    const path = this.freePath(folder);
    const opened = { folder, path, file: await this.folder.mbox(path) };
    this.taken.add(fold(path));
    this.open = opened;
    return opened;
  }

  /** A host may name as many folders alike as it likes, so that no number is tried twice. */
  private freePath(folder: string): string {
    const name = fold(mboxPath(folder, 1));
    for (let number = (this.numbers.get(name) ?? 0) + 1; ; number++) {
      const path = mboxPath(folder, number);
      this.numbers.set(name, number);
      if (!this.taken.has(fold(path))) return path;
    }
  }

  async end(): Promise<void> {
    const { open } = this;
    this.open = undefined;
    if (!open) return;
    const sha256 = await open.file.close();
    if (sha256 !== undefined) this.written.set(open.path, { path: open.path, size: open.file.end, sha256 });
  }

  async *index(): AsyncGenerator<object> {
    for (const path of (await this.mboxes()).keys())
      for await (const message of this.messagesOf(path)) {
        const { checkedAt: _, reason: __, placement: ___, received, flags, keywords, at, length, ...more } = message;
        yield {
          ...more,
          ...{ offset: at, length, received: received.toISOString() },
          flags: flagNames(flags).map((name) => `\\${name.charAt(0).toUpperCase()}${name.slice(1)}`),
          keywords,
        };
      }
  }

  async *files(): AsyncGenerator<BaggedFile> {
    for (const [path, octets] of await this.mboxes()) {
      const written = this.written.get(path);
      // What is read back later on shows whether the disk has it so.
      yield written?.size === octets ? written : await this.folder.unfinishedFile(path);
    }
  }

  async *readBack(since?: Date): AsyncGenerator<ReadBack> {
    for (const path of (await this.mboxes()).keys()) {
      const verdicts = this.folder.readBack(path, this.expected(path, since));
      const sized = mapped(verdicts, ({ message, isEqual }) => ({ message, isEqual, size: message.size }));
      for await (const some of batches(sized, PAGE, MOST_OCTETS)) {
        const read = some.filter(({ message }) => !message.isChecked && message.reason === null);
        yield {
          equal: read.filter(({ isEqual }) => isEqual).map(({ message }) => message.file),
          left: read
            .filter(({ isEqual }) => !isEqual)
            .map(({ message: { file, placement, encoded } }) => ({
              file,
              placement,
              encoded,
              reason: 'differs' as const,
            })),
        };
      }
    }
  }

  private expected(path: string, since?: Date) {
    return mapped(this.messagesOf(path), (message) => ({
      ...message,
      line: fromLine(message.from, message.received),
      isChecked: isReadSince(message, since),
    }));
  }

  private messagesOf(path: string): AsyncGenerator<BaggedMessage> {
    return pages((last) =>
      baggedMessages(this.database, this.account.id, this.bag.id, path, last ? last.at + 1 : 0, PAGE),
    );
  }

  private mboxes(): Promise<Map<string, number>> {
    return mboxesOf(this.database, this.account.id, this.bag.id);
  }
}

async function* mapped<T, U>(items: AsyncIterable<T>, act: (item: T) => U): AsyncGenerator<U> {
  for await (const item of items) yield act(item);
}
