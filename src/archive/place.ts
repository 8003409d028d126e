import { join, resolve } from 'node:path';
import { Bag } from './bag';
import { createFile, makeFolder, orDiskFull, removeTree } from './disk';

/** Where the bags of all accounts are on this machine. */
export class ArchivePlace {
  private constructor(private readonly directory: string) {}

  /** @throws where the operator's variable is missing. */
  static from(variables: NodeJS.ProcessEnv): ArchivePlace {
    const { TAMSEL_ARCHIVE_DIR } = variables;
    if (!TAMSEL_ARCHIVE_DIR) throw new Error('The variable TAMSEL_ARCHIVE_DIR is missing.');
    return new ArchivePlace(resolve(TAMSEL_ARCHIVE_DIR));
  }

  static at(directory: string): ArchivePlace {
    return new ArchivePlace(directory);
  }

  /** Deletes all that is there of an account. */
  async forget(account: number): Promise<void> {
    await removeTree(join(this.directory, String(account)));
  }

  /** A file for work under way, which nobody else uses; it is made when it is filled, and to be removed. */
  async scratch(name: string): Promise<{ path: string; remove(): Promise<void> }> {
    const folder = join(this.directory, 'scratch');
    await makeFolder(folder);
    const path = join(folder, name);
    return { path, remove: () => removeTree(path) };
  }

  /** Writes a file for work under way. @throws DiskFull */
  async fill(path: string, octets: AsyncIterable<Uint8Array>): Promise<void> {
    const file = await createFile(path);
    try {
      for await (const piece of octets) await orDiskFull(() => file.writeFile(piece));
    } finally {
      await file.close();
    }
  }

  /** @param folder a safe name. */
  bag(account: number, folder: string): Bag {
    return new Bag(join(this.directory, String(account), folder));
  }
}
