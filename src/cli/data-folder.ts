import { accessSync, constants, existsSync, mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { EXIT, Stop } from './exits';

/** What a folder of data is for. */
export type Purpose = 'demo' | 'start';

/** Who uses the folder. */
interface Holder {
  pid: number;
  /** Of the process, in clock ticks since the machine started (proc(5)): a number is given again, a moment is not. */
  born: string;
  since: string;
  address: string;
}

const LOCK = 'in-use.json';
const PURPOSE = 'purpose';
/** What `--fresh` forgets. */
const FORGOTTEN = ['postgres', 'stand-in', 'logs', 'archive'];

/** The folder of an instance's data. One instance at a time holds it. */
export class DataFolder {
  private constructor(readonly path: string) {}

  /**
   * Looks at a folder, and changes nothing.
   *
   * @throws Stop where another instance holds it, or it holds data for another purpose.
   */
  static looked(path: string, purpose: Purpose): DataFolder {
    const holder = holderOf(path);
    if (holder)
      throw new Stop(
        EXIT.dataInUse,
        `The data folder ${path} is in use since ${holder.since} by process ${holder.pid}, at ${holder.address}. Stop that, or set TAMSEL_DATA to another.`,
      );
    const kept = readIf(join(path, PURPOSE))?.trim();
    if (kept !== undefined && kept !== purpose)
      throw new Stop(
        EXIT.usage,
        `The data folder ${path} is that of ./tamsel ${kept}. Set TAMSEL_DATA to another for ./tamsel ${purpose}.`,
      );
    return new DataFolder(path);
  }

  /** Whether there is anything that would be lost. */
  get holdsData(): boolean {
    return existsSync(join(this.path, 'postgres'));
  }

  /** Forgets all that was done, but for the key. */
  forget(): void {
    for (const part of FORGOTTEN) rmSync(join(this.path, part), { recursive: true, force: true });
  }

  /**
   * Takes the folder for this process, made where there is none.
   *
   * @returns gives it back.
   * @throws Stop where it can't be written to, or another took it just now.
   */
  take(purpose: Purpose, address: string): () => void {
    const lock = join(this.path, LOCK);
    try {
      mkdirSync(join(this.path, 'logs'), { recursive: true, mode: 0o700 });
      accessSync(this.path, constants.W_OK);
      const holder = { pid: process.pid, born: bornOf(process.pid), since: new Date().toISOString(), address };
      if (existsSync(lock) && !holderOf(this.path)) rmSync(lock);
      writeFileSync(lock, JSON.stringify(holder), { flag: 'wx', mode: 0o600 });
      writeFileSync(join(this.path, PURPOSE), `${purpose}\n`);
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code === 'EEXIST' && existsSync(lock)) DataFolder.looked(this.path, purpose);
      throw new Stop(
        EXIT.dataNotWritable,
        `The data folder ${this.path} is not writable. Set TAMSEL_DATA to one that is.`,
      );
    }
    return () => rmSync(lock, { force: true });
  }
}

/** The living process that holds a folder; undefined where there is none. */
function holderOf(path: string): Holder | undefined {
  const text = readIf(join(path, LOCK));
  if (text === undefined) return undefined;
  try {
    const holder = JSON.parse(text) as Holder;
    return bornOf(holder.pid) === holder.born ? holder : undefined;
  } catch {
    return undefined;
  }
}

/** When a process was started; '' where there is none. Its name, in brackets, may hold anything. */
function bornOf(pid: number): string {
  const stat = readIf(`/proc/${pid}/stat`) ?? '';
  return stat.slice(stat.lastIndexOf(')') + 2).split(' ')[19] ?? '';
}

function readIf(path: string): string | undefined {
  try {
    return readFileSync(path, 'utf8');
  } catch {
    return undefined;
  }
}
