import { FLAG_BITS } from '../mailbox/flags';
import { type Copy, goingOf, type Kept, keptOf, type Rule } from './keeper';

/** Files that were found to have the same octets as others, a row a file and placement of its message; a file's rows lie together. */
export interface FileCopyRows {
  /** Rows with the same number have the same octets. */
  digest: Int32Array;
  file: Float64Array;
  placement: Int32Array;
  /** Encoded octets that count for it. */
  size: Float64Array;
  /** Seconds since 1970. */
  received: Float64Array;
  flags: Int32Array;
  /** 1 where an answer to its message is there. */
  isAnswered: Int32Array;
}

/** What decides which one stays. A message that is protected or answered is looked for sooner; else the newest is the one at hand. */
const ORDER: readonly Rule[] = ['guarded', 'flagged', 'answered', 'latest'];

/** What is known beside the rows. */
export interface FileFacts {
  isGuarded(placement: number): boolean;
  /** Whether the message there is left out, since it is counted elsewhere as what can go. */
  isLeft?(placement: number): boolean;
  /** Whether the plan, or a run that goes on, takes the message there. */
  isTaken(placement: number): boolean;
  /** Whether the plan, or a run that goes on, takes the file out of its message, or makes it smaller. */
  isTakenOut(file: number): boolean;
}

/** A file that lies in several messages. */
export interface FileGroup {
  /** The lowest file among them. */
  id: number;
  /** Of each file a row, any of its placements. */
  rows: number[];
  files: Copy[];
  kept: Kept | undefined;
  /** Files that can go. */
  going: ReadonlySet<number>;
  /** Their octets. */
  bytes: number;
}

/** Groups files with the same octets, and finds in each group the one that stays. */
export function fileGroups(rows: FileCopyRows, facts: FileFacts): FileGroup[] {
  const groups: FileGroup[] = [];
  for (let from = 0; from < rows.file.length; ) {
    let until = from + 1;
    while (rows.digest[until] === rows.digest[from]) until++;
    const members: number[] = [];
    const files: Copy[] = [];
    for (let row = from; row < until; ) {
      let end = row + 1;
      while (end < until && rows.file[end] === rows.file[row]) end++;
      const copy = fileCopy(rows, row, end, facts);
      if (copy) {
        members.push(row);
        files.push(copy);
      }
      row = end;
    }
    const kept = keptOf(files, ORDER);
    const going = new Set(goingOf(files, kept));
    groups.push({
      id: files.reduce((least, { id }) => Math.min(least, id), Number.POSITIVE_INFINITY),
      rows: members,
      files,
      kept,
      going,
      bytes: members.reduce(
        (sum, row) => sum + (going.has(rows.file[row] as number) ? (rows.size[row] as number) : 0),
        0,
      ),
    });
    from = until;
  }
  return groups;
}

/** A file with the best of what its placements are; undefined where all are left out. */
function fileCopy(rows: FileCopyRows, from: number, until: number, facts: FileFacts): Copy | undefined {
  const id = rows.file[from] as number;
  const copy: Copy = {
    id,
    guarded: false,
    flagged: false,
    answered: rows.isAnswered[from] === 1,
    keptIn: 'other',
    received: rows.received[from] as number,
    taken: true,
  };
  let isThere = false;
  for (let row = from; row < until; row++) {
    const [placement, flags] = [rows.placement[row] as number, rows.flags[row] as number];
    if (facts.isLeft?.(placement)) continue;
    isThere = true;
    copy.guarded ||= facts.isGuarded(placement);
    copy.flagged ||= (flags & FLAG_BITS.flagged) !== 0;
    copy.answered ||= (flags & FLAG_BITS.answered) !== 0;
    copy.taken &&= facts.isTaken(placement);
  }
  copy.taken ||= facts.isTakenOut(id);
  return isThere ? copy : undefined;
}
