import { FLAG_BITS } from '../mailbox/flags';
import type { FolderRole } from '../mailbox/folders';
import { type Copy, goingOf, type KeepRule, type Kept, type KeptIn, keptOf } from './keeper';

/** Placements of messages that were found to exist more than once, a row each; those of one group lie together. */
export interface TwinRows {
  id: Int32Array;
  message: Int32Array;
  folder: Int32Array;
  size: Float64Array;
  /** Seconds since 1970. */
  received: Float64Array;
  flags: Int32Array;
  /** 1 where a keyword says that it is one side of a conflict. */
  ofConflict: Int32Array;
  /** Rows with the same number are copies of each other. */
  twin: Int32Array;
  /** Of copies of each other: those with the same number have the same octets; are the same but for fields added on the way. */
  octets: Int32Array;
  kept: Int32Array;
}

/** What makes a copy the same message as the one that stays; the strongest that holds. */
export type Sameness = 'server' | 'octets' | 'transport' | 'content';

/** A message and its copies. */
export interface TwinGroup {
  /** The lowest id among them. */
  id: number;
  rows: number[];
  /** Undefined where every copy is in the plan. */
  kept: Kept | undefined;
  /** Ids of those that can go. */
  going: ReadonlySet<number>;
  /** Their octets. */
  bytes: number;
}

/** What is known of placements and folders beside the rows. */
export interface TwinFacts {
  isGuarded(id: number): boolean;
  /** Whether the plan, or a run that goes on, takes it. */
  isTaken(id: number): boolean;
  keptIn(folder: number): KeptIn;
}

/** Groups copies, and finds in each group the one that stays. */
export function twinGroups(rows: TwinRows, facts: TwinFacts, order: readonly KeepRule[]): TwinGroup[] {
  const groups: TwinGroup[] = [];
  for (let from = 0; from < rows.id.length; ) {
    let until = from + 1;
    while (rows.twin[until] === rows.twin[from]) until++;
    const members = Array.from({ length: until - from }, (_, at) => from + at);
    const copies = members.map((row) => copyOf(rows, row, facts));
    const kept = keptOf(copies, order);
    const going = new Set(goingOf(copies, kept));
    groups.push({
      id: copies.reduce((least, { id }) => Math.min(least, id), Number.POSITIVE_INFINITY),
      rows: members,
      kept,
      going,
      bytes: members.reduce(
        (sum, row) => sum + (going.has(rows.id[row] as number) ? (rows.size[row] as number) : 0),
        0,
      ),
    });
    from = until;
  }
  return groups;
}

/** What makes two copies of a group the same message. */
export function samenessOf({ message, octets, kept }: TwinRows, one: number, other: number): Sameness {
  if (message[one] === message[other]) return 'server';
  if (octets[one] === octets[other]) return 'octets';
  return kept[one] === kept[other] ? 'transport' : 'content';
}

/** How well a message is kept in a folder. A folder without a role is the person's own; one that repeats another was brought in. */
export function keptInOf(role: FolderRole | null, repeatsAnother: boolean): KeptIn {
  if (role === null) return repeatsAnother ? 'import' : 'filed';
  return role === 'archive' || role === 'sent' || role === 'inbox' ? role : 'other';
}

/** A copy, as rules look at it. */
export function copyOf(rows: TwinRows, row: number, { isGuarded, isTaken, keptIn }: TwinFacts): Copy {
  const id = rows.id[row] as number;
  const flags = rows.flags[row] as number;
  return {
    id,
    guarded: isGuarded(id),
    flagged: (flags & FLAG_BITS.flagged) !== 0,
    answered: (flags & FLAG_BITS.answered) !== 0,
    keptIn: rows.ofConflict[row] === 1 ? 'import' : keptIn(rows.folder[row] as number),
    received: rows.received[row] as number,
    taken: isTaken(id),
  };
}
