import { type Columns, rowOfId } from '../columns/columns';
import type { FileColumns } from '../columns/file-columns';
import { instantOfAge } from '../criteria/instants';
import { type FileKind, kindNumber } from '../files/kinds';
import { NOTE_OCTETS } from '../mime/note';
import { OCTETS_IN } from '../units';

/** Files that may be taken out, each in one message. */
export interface TakableFiles {
  readonly length: number;
  /** The row of its message; -1 where it may not be taken out. */
  readonly row: Int32Array;
  /** Encoded octets. */
  readonly size: Float64Array;
  /** Numbers of core/files/kinds. */
  readonly kind: Uint8Array;
}

/** Files with the rows of their messages. @param mayLose whether a row may lose files. */
export function takableFiles(files: FileColumns, columns: Columns, mayLose: (row: number) => boolean): TakableFiles {
  const row = new Int32Array(files.length);
  for (let at = 0; at < files.length; at++) {
    const found = rowOfId(columns, files.placement[at] as number);
    row[at] = found >= 0 && mayLose(found) ? found : -1;
  }
  return { length: files.length, row, size: files.size, kind: files.kind };
}

/** Files that could be taken out in one decision. */
export interface FileCandidate {
  key: string;
  kind: 'files' | 'pictures';
  /** The size from which on. */
  subject: string;
  years: number;
  /** Of files. */
  where: string;
  files: Uint32Array;
}

/** Kinds that people keep outside their mail anyway, and all files. */
const GROUPS: readonly { kind: FileCandidate['kind']; kinds: readonly FileKind[] | null; test: string }[] = [
  { kind: 'pictures', kinds: ['picture', 'film'], test: '(kind = picture or kind = film) and ' },
  { kind: 'files', kinds: null, test: '' },
];
/** MiB from which on a file is worth the line that stands in its place (common practice, no source). */
const LEAST_MIB = [1, 5] as const;
/** Years that files are older than: nobody looks for them in the mail as often then. */
const OLD = [1, 2, 4] as const;

/** Every decision on files that could be proposed, of each group from the one that takes least to the one that takes most. */
export function fileCandidatesOf(
  columns: Columns,
  files: TakableFiles,
  context: { now: Date; timeZone: string },
): FileCandidate[] {
  const candidates: FileCandidate[] = [];
  for (const { kind, kinds, test } of GROUPS) {
    const wanted = kinds && new Set(kinds.map(kindNumber));
    for (const years of OLD.toReversed()) {
      const before = instantOfAge(years, 'y', context.now, context.timeZone).getTime() / 1000;
      for (const mib of LEAST_MIB.toReversed()) {
        const found: number[] = [];
        for (let at = 0; at < files.length; at++) {
          const row = files.row[at] as number;
          if (row < 0 || (files.size[at] as number) < mib * OCTETS_IN.MiB) continue;
          if (wanted && !wanted.has(files.kind[at] as number)) continue;
          if ((columns.received[row] as number) < before) found.push(at);
        }
        if (found.length === 0) continue;
        const where = `${test}size >= ${mib} MiB and age > ${years}y`;
        const subject = `${mib} MiB`;
        candidates.push({
          key: `${kind}:${subject}:${years}y`,
          kind,
          subject,
          years,
          where,
          files: Uint32Array.from(found),
        });
      }
    }
  }
  return candidates;
}

/** Octets that taking out a file wins. */
export function wonBy(size: number): number {
  return Math.max(0, size - NOTE_OCTETS);
}
