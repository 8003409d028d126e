import { statfs } from 'node:fs/promises';
import { join, resolve } from 'node:path';
import { Bag } from './bag';
import { removeTree } from './disk';
import { Scratch } from './scratch';
import { Upload } from './upload';

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

  /** Octets that are free on its disk; null where that can't be told. */
  async freeOctets(): Promise<number | null> {
    const found = await statfs(this.directory).catch(() => undefined);
    return found ? found.bavail * found.bsize : null;
  }

  /** Where files of work under way are. */
  get scratchFolder(): string {
    return join(this.directory, 'scratch');
  }

  /** Room for work under way, to be closed. */
  scratch(): Scratch {
    return new Scratch(this.scratchFolder);
  }

  /** What is brought in for a bag. @param folder of the bag. */
  upload(account: number, folder: string): Upload {
    return new Upload(join(this.directory, String(account), `${folder}.upload`));
  }

  /** @param folder a safe name. */
  bag(account: number, folder: string): Bag {
    return new Bag(join(this.directory, String(account), folder));
  }
}
