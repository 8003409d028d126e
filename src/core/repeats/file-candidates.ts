import { candidateGroups, type Groups } from './candidates';

/**
 * Encoded octets below which a file is left alone: what would stand in its place costs nearly as much, and pictures in signatures
 * come with every message.
 */
export const LEAST_REPEATED = 64 * 1024;

/** Characters in a line of base64 as mail programs write it, the usual one first (RFC 2045 §6.8 allows 76). Common practice, no source. */
export const LINE_LENGTHS = [76, 72, 64, 60] as const;
const USUAL = LINE_LENGTHS[0];

/** Files by what the index knows of them, a row each. */
export interface FileColumns {
  /** The number of its kind (core/files/kinds). */
  kind: Int32Array;
  /** Encoded octets. */
  size: Float64Array;
  /** 1 where it is in base64. */
  isBase64: Int32Array;
  /** A hash of its name; 0 where it has none. */
  name: Int32Array;
}

/**
 * Octets that a file has at most when decoded, and at least two less: what base64 in lines of some length tells of them.
 *
 * @param size encoded octets, the ends of lines among them.
 */
export function octetsAtMost(size: number, lineLength: number = USUAL): number {
  const lines = Math.ceil(size / (lineLength + 2));
  const characters = size - 2 * lines;
  // Whether its last line has an end too is not known; only one of both makes groups of four.
  return ((characters % 4 === 0 ? characters : characters + 2) / 4) * 3;
}

/**
 * Finds files that may be the same: of one kind with as many octets; or of one kind and name, with as many octets if one of them is written
 * in lines of another length. Of other encodings than base64 the encoded octets stand for them: they tell files of one program apart.
 */
export function fileCandidates({ kind, size, isBase64, name }: FileColumns): Groups {
  const { length } = kind;
  const sets = new JoinedSets(length);
  const octets = Int32Array.from(size, (encoded, row) => (isBase64[row] === 1 ? octetsAtMost(encoded) : encoded));
  joinEqual(
    sets,
    Uint32Array.from({ length }, (_, row) => row),
    kind,
    octets,
  );
  // A row a file and length of its lines.
  const named = Uint32Array.from({ length }, (_, row) => row).filter((row) => name[row] !== 0 && isBase64[row] === 1);
  const members = new Uint32Array(named.length * LINE_LENGTHS.length);
  const inLines = new Int32Array(members.length);
  for (const [at, row] of named.entries())
    for (const [which, lineLength] of LINE_LENGTHS.entries()) {
      members[at * LINE_LENGTHS.length + which] = row;
      inLines[at * LINE_LENGTHS.length + which] = octetsAtMost(size[row] as number, lineLength);
    }
  const names = Int32Array.from(members, (row) => Math.imul(name[row] as number, 0x9e3779b1) + (kind[row] as number));
  joinEqual(sets, members, names, inLines);
  return sets.groups();
}

/** Joins members that are equal in two numbers. A chance likeness costs no more than that one file is read in vain. */
function joinEqual(sets: JoinedSets, members: Uint32Array, high: Int32Array, low: Int32Array): void {
  const { rows, starts } = candidateGroups({ high, low, size: new Float64Array(members.length) });
  for (let group = 0; group + 1 < starts.length; group++)
    for (let at = (starts[group] as number) + 1; at < (starts[group + 1] as number); at++)
      sets.join(members[rows[at - 1] as number] as number, members[rows[at] as number] as number);
}

/** Disjoint sets of rows, joined two at a time (union by the lowest row, with path halving). */
class JoinedSets {
  private readonly parents: Uint32Array;

  constructor(length: number) {
    this.parents = Uint32Array.from({ length }, (_, row) => row);
  }

  join(one: number, other: number): void {
    const [a, b] = [this.rootOf(one), this.rootOf(other)];
    this.parents[Math.max(a, b)] = Math.min(a, b);
  }

  /** Those with more than one row, in the order of their first rows. */
  groups(): Groups {
    const roots = this.parents.map((_, row) => this.rootOf(row));
    const counts = new Uint32Array(roots.length);
    for (const root of roots) counts[root] = (counts[root] as number) + 1;
    const starts = [0];
    const places = new Uint32Array(roots.length);
    for (const [row, root] of roots.entries()) {
      const count = counts[row] as number;
      if (row !== root || count < 2) continue;
      places[root] = starts.at(-1) as number;
      starts.push((starts.at(-1) as number) + count);
    }
    const rows = new Uint32Array(starts.at(-1) as number);
    for (const [row, root] of roots.entries()) {
      if ((counts[root] as number) < 2) continue;
      const place = places[root] as number;
      rows[place] = row;
      places[root] = place + 1;
    }
    return { rows, starts: Uint32Array.from(starts) };
  }

  private rootOf(row: number): number {
    let at = row;
    while (this.parents[at] !== at) {
      this.parents[at] = this.parents[this.parents[at] as number] as number;
      at = this.parents[at] as number;
    }
    return at;
  }
}
