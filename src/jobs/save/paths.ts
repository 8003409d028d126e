import { filePath } from '../../core/archive/file-path';
import { numbered } from '../../core/archive/safe-name';
import { fold } from '../../core/text';

/** What names a file in a bag. */
export interface NamedFile {
  name: string;
  type: string;
  date: Date;
  author: string;
}

/** Gives files of a bag paths that no other has, in any letter case. */
export class Paths {
  /** By folded path, the number that was given last to a file of that name. */
  private readonly numbers = new Map<string, number>();
  private readonly days: Intl.DateTimeFormat;
  /** Folded paths that the bag has already. */
  private taken: ReadonlySet<string> = new Set();

  /**
   * @param timeZone in which the day of a file counts.
   * @param takenOf which of paths the bag has already, folded.
   */
  constructor(
    timeZone: string,
    private readonly takenOf: (paths: readonly string[]) => Promise<ReadonlySet<string>>,
  ) {
    this.days = new Intl.DateTimeFormat('en-CA', { timeZone });
  }

  /** Paths that were given and are remembered. */
  get size(): number {
    return this.numbers.size;
  }

  /** Forgets which paths were given: all files that have them are in the bag by now. */
  forget(): void {
    this.numbers.clear();
  }

  /** Looks up in one go what the bag has of the paths that files would have. */
  async lookUp(files: readonly NamedFile[]): Promise<void> {
    this.taken = await this.takenOf(files.map((file) => this.plain(file).path));
  }

  /** A path for a file that was looked up. */
  async pathFor(file: NamedFile): Promise<string> {
    const { folder, name, path: plain } = this.plain(file);
    const key = fold(plain);
    for (let number = (this.numbers.get(key) ?? 0) + 1; ; number++) {
      const path = number === 1 ? plain : `${folder}/${numbered(name, number)}`;
      const own = fold(path);
      // A number may make a name that another file has by itself.
      if (number > 1 && this.numbers.has(own)) continue;
      if (number === 1 ? this.taken.has(key) : (await this.takenOf([path])).has(own)) continue;
      this.numbers.set(key, number);
      if (number > 1) this.numbers.set(own, 1);
      return path;
    }
  }

  private plain({ name, type, date, author }: NamedFile) {
    const filed = filePath({ name, type, day: this.days.format(date), author });
    return { ...filed, path: `${filed.folder}/${filed.name}` };
  }
}
