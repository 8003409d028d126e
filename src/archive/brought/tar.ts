import { Header, type HeaderData, Pax } from 'tar';
import type { Region } from '../region';
import { type Container, type Entry, MOST_ENTRIES, pathInside } from './container';
import { CutOff, Unreadable } from './unreadable';

const BLOCK = 512;
/** Octets of what is said of a file in front of it: names and times. */
const MOST_EXTENDED = 1024 * 1024;

/** Whether octets begin a tar archive (POSIX.1-2017, pax, ustar interchange format). */
export function isTar(beginning: Buffer): boolean {
  return beginning.length >= BLOCK && new Header(beginning, 0).cksumValid;
}

/** A tar archive (POSIX.1-2017, ustar and pax; GNU's long names). Its files are read where they lie. */
export class Tar implements Container {
  constructor(private readonly archive: Region) {}

  async *entries(): AsyncGenerator<Entry> {
    let global: HeaderData | undefined;
    let own: HeaderData | undefined;
    let count = 0;
    for (let at = 0; at + BLOCK <= this.archive.size; ) {
      const header = new Header(await this.archive.octets(at, at + BLOCK), 0, own, global);
      if (header.nullBlock) {
        at += BLOCK;
        continue;
      }
      const size = header.size ?? 0;
      if (!header.cksumValid || !Number.isSafeInteger(size) || size < 0) throw damaged();
      at += BLOCK;
      if (++count > MOST_ENTRIES)
        throw new Unreadable('too-many-files', `The archive has more than ${MOST_ENTRIES} files.`);
      const { type } = header;
      if (type === 'ExtendedHeader' || type === 'GlobalExtendedHeader' || type === 'NextFileHasLongPath') {
        if (size > MOST_EXTENDED) throw damaged();
        const text = (await this.archive.octets(at, at + size)).toString('utf8');
        if (type === 'NextFileHasLongPath') own = { ...own, path: text.replace(/\0.*$/s, '') };
        else if (type === 'ExtendedHeader') own = { ...own, ...told(Pax.parse(text)) };
        else global = { ...global, ...told(Pax.parse(text)) };
      } else {
        if (type === 'File' || type === 'OldFile' || type === 'ContiguousFile') yield this.entry(header, at, size);
        own = undefined;
      }
      at += Math.ceil(size / BLOCK) * BLOCK;
    }
  }

  private entry({ path = '', mtime }: Header, at: number, size: number): Entry {
    const { archive } = this;
    const region = archive.part(at, size);
    const isCut = region.size < size;
    return {
      path: pathInside(path),
      size,
      modified: mtime && !Number.isNaN(mtime.getTime()) ? mtime : null,
      async *read() {
        yield* region.read();
        if (isCut) throw new CutOff();
      },
      async *within(work) {
        yield* work(region);
        if (isCut) throw new CutOff();
      },
    };
  }
}

/** What an extended header says, and nothing of what it does not. */
function told(pax: Pax): HeaderData {
  return Object.fromEntries(Object.entries(pax).filter(([name, value]) => value !== undefined && name !== 'global'));
}

function damaged(): Unreadable {
  return new Unreadable(
    'damaged-archive',
    'The tar archive is damaged. Pack it again, or repair it, and bring it in anew.',
  );
}
