import type { Bag as BagFolder, BaggedFile } from '../../archive/bag';
import { decoded } from '../../mail/mime/decoded';
import type { Account } from '../../store/access/accounts';
import {
  type Bag,
  type IndexedFile,
  indexedFiles,
  type PendingFile,
  type SavedFile,
  savedFiles,
  takenPaths,
} from '../../store/archive/bags';
import type { Database } from '../../store/database';
import { batches } from '../batches';
import { type Intake, isReadSince, type ReadBack, type Received } from './intake';
import { pages } from './pages';
import { Paths } from './paths';

/** Files that are looked up at a time. */
const PAGE = 500;
/** Paths that are remembered at a time. */
const MOST_PATHS = 100_000;
/** Files, and octets, that are read back at a time. */
const READ_FILES = 64;
const READ_OCTETS = 24 * 2 ** 20;

/** Each file by itself, under a name that people read. */
export class FileIntake implements Intake {
  private readonly paths: Paths;

  constructor(
    private readonly database: Database,
    private readonly account: Account,
    private readonly bag: Bag,
    private readonly folder: BagFolder,
  ) {
    this.paths = new Paths(account.settings.timeZone, (paths) => takenPaths(database, account.id, bag.id, paths));
  }

  async begin(): Promise<void> {}

  async ready(files: readonly PendingFile[]): Promise<void> {
    if (this.paths.size > MOST_PATHS) this.paths.forget();
    await this.paths.lookUp(files);
  }

  async receive(file: PendingFile, octets: AsyncIterable<Buffer>): Promise<Received> {
    const path = await this.paths.pathFor(file);
    const { kept } = await this.folder.receive(path, decoded(octets, file.encoding));
    return {
      kept: () => kept,
      takeBack: async () => {
        await kept;
        await this.folder.remove(path);
      },
    };
  }

  async end(): Promise<void> {}

  index(): AsyncIterable<object> {
    return pages<IndexedFile>((last) =>
      indexedFiles(this.database, this.account.id, this.bag.id, last?.file ?? 0, PAGE),
    );
  }

  async *files(): AsyncGenerator<BaggedFile> {
    for await (const { path, size, sha256 } of this.saved()) yield { path, size, sha256 };
  }

  async *readBack(since?: Date): AsyncGenerator<ReadBack> {
    for await (const some of batches(this.saved(), READ_FILES, READ_OCTETS)) {
      // What was read back before a pause stays checked as of then.
      const files = some.filter((file) => !isReadSince(file, since));
      const read = await Promise.all(files.map(({ path }) => this.folder.read(path)));
      const isEqual = ({ size, sha256 }: SavedFile, at: number) =>
        read[at]?.size === size && read[at]?.sha256 === sha256;
      const equal = files.filter(isEqual).map(({ file }) => file);
      const left = files.flatMap((file, at) => (isEqual(file, at) ? [] : [{ ...file, reason: 'differs' as const }]));
      yield { equal, left };
    }
  }

  private saved() {
    return pages<SavedFile & { checkedAt: Date | null }>((last) =>
      savedFiles(this.database, this.account.id, this.bag.id, last?.file ?? 0, PAGE),
    );
  }
}
