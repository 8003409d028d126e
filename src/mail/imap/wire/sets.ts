import { printSequenceSet, type Ranges } from '../../../core/sets/ranges';

/**
 * Octets of a set in one command at first: below what most servers take for a line. A command costs a server something
 * whatever it names, in a large folder a second, so few long ones are quicker than many short ones.
 */
const LONG = 60_000;
/** RFC 7162 §4 advises 8,192 octets for a line: what is shorter is refused for another reason. */
const ADVISED = 7_000;

/** How long the sets were that hosts have taken, remembered for as long as the process lives. */
const taken = new Map<string, number>();
const MAX_REMEMBERED = 1_000;

/** How long a set in a command to one host may be. Begins large and is halved where the host refuses, or hangs up. */
export class SetLength {
  constructor(private readonly host: string) {}

  get octets(): number {
    return taken.get(this.host) ?? LONG;
  }

  /** Halves it after a set was not taken; whether that is worth trying. One range can't be cut, so it was refused for another reason. */
  shorten(refused: string): boolean {
    if (!refused.includes(',')) {
      taken.delete(this.host);
      return false;
    }
    if (taken.size >= MAX_REMEMBERED) taken.clear();
    taken.set(this.host, Math.max(1, Math.min(this.octets, Math.floor(refused.length / 2))));
    return true;
  }

  /** Halves it after the connection was lost over a set that is longer than servers are advised to take. */
  lostOver(set: string): void {
    if (set.length > ADVISED) this.shorten(set);
  }
}

/** Prints as many ranges of a set as a command of that length may name, at least one; gives how many they are. */
export function printed(ranges: Ranges, octets: number): [set: string, taken: number] {
  const parts: string[] = [];
  let length = 0;
  for (const range of ranges) {
    const next = printSequenceSet([range]);
    if (length > 0 && length + next.length + 1 > octets) break;
    parts.push(next);
    length += next.length + 1;
  }
  return [parts.join(','), parts.length];
}

/** Prints a set as sequence-sets of bounded length. */
export function* cut(ranges: Ranges, octets: number): Generator<string> {
  for (let at = 0; at < ranges.length; ) {
    const [set, count] = printed(ranges.slice(at, at + octets), octets);
    yield set;
    at += count;
  }
}
