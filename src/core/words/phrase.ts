import { BLANK_BITS, type Segment, type TokenPattern } from './segment';
import { BLANK_BEFORE, BLANK_BEHIND, PIECE, runsOf, STEP, type WantedRun } from './tokens';

/** Reads the positions of tokens of a segment, each token's by itself. */
export type PositionReader = (tokens: readonly number[]) => Promise<readonly Uint8Array[]>;

/** Positions of a segment, a bit each. */
class Positions {
  private readonly bits: Uint32Array;
  isEmpty = true;

  constructor(private readonly count: number) {
    this.bits = new Uint32Array((count >>> 5) + 1);
  }

  /**
   * Adds what lies right behind the occurrences of a token. A frequent word has millions of them, so all is done in one loop,
   * with whole numbers: none that was written has more than 32 bits.
   *
   * @param octets the occurrences, as a segment keeps them.
   * @param mask bits of an occurrence that have to be as in `wanted`.
   * @param before positions that an occurrence must have; without them any.
   * @throws RangeError where the octets can't be read.
   */
  addBehind(octets: Uint8Array, mask: number, wanted: number, before: Positions | undefined): void {
    const { bits, count } = this;
    const allowed = before?.bits;
    const { length } = octets;
    let position = 0;
    let isEmpty = true;
    for (let at = 0; at < length; ) {
      let octet = octets[at++] as number;
      let number = octet & 0x7f;
      for (let shift = 7; octet >= 0x80; shift += 7) {
        if (at === length || shift > 28) throw new RangeError('A position is cut off.');
        octet = octets[at++] as number;
        number |= (octet & 0x7f) << shift;
      }
      position += number >>> BLANK_BITS;
      if ((number & mask) !== wanted) continue;
      if (allowed && (((allowed[position >>> 5] as number) >>> (position & 31)) & 1) === 0) continue;
      const behind = position + 1;
      if (behind >= count) continue;
      bits[behind >>> 5] = (bits[behind >>> 5] as number) | (1 << (behind & 31));
      isEmpty = false;
    }
    if (!isEmpty) this.isEmpty = false;
  }

  /** In their order. */
  each(take: (position: number) => void): void {
    for (let at = 0; at < this.bits.length; at++)
      for (let bits = this.bits[at] as number; bits !== 0; bits &= bits - 1)
        take(at * 32 + 31 - Math.clz32(bits & -bits));
  }
}

/** A token of one of the ways in which a run can lie in a text. */
interface Step extends TokenPattern {
  /** Blanks that must stand beside it, and of which blanks that is asked. */
  blanks: number;
  mask: number;
}

/**
 * The texts of a segment that contain a wanted text, folded and without lines: a bit each. The index alone tells that exactly.
 *
 * @param read the positions; not asked where the tokens alone tell it.
 */
export async function textsContaining(segment: Segment, wanted: string, read: PositionReader): Promise<Uint8Array> {
  const runs = runsOf(wanted);
  const [only] = runs;
  // Each searched text holds a blank.
  if (!only) return new Uint8Array(segment.texts).fill(1);
  const all = runs.map((run) => segment.textsWith(segment.tokens(patternOf(run))));
  const isAlone = runs.length === 1 && !only.begins && !only.ends;
  if (isAlone && isInOneToken(only.text)) return all[0] as Uint8Array;
  const found = new Uint8Array(segment.texts);
  for (let text = 0; text < found.length; text++) found[text] = all.every((texts) => texts[text] === 1) ? 1 : 0;
  return found.includes(1) ? textsWithRuns(segment, runs, read) : found;
}

/** What each text must have a token like that has a run. */
function patternOf({ text, begins, ends }: WantedRun): TokenPattern {
  return isInOneToken(text) ? { text, begins, ends } : { text: pointsOf(text, 0, STEP), begins, ends: false };
}

/** Whether wherever a run stands, one token has all of it. */
function isInOneToken(run: string): boolean {
  return run.length <= STEP || Array.from(run).length <= STEP;
}

function pointsOf(text: string, from: number, to: number): string {
  return Array.from(text).slice(from, to).join('');
}

/** Follows the runs from position to position. */
async function textsWithRuns(segment: Segment, runs: readonly WantedRun[], read: PositionReader): Promise<Uint8Array> {
  /** Where the next token must be; undefined where it may be anywhere. */
  let reached: Positions | undefined;
  for (const run of runs) {
    const next = new Positions(segment.positions);
    for (const way of waysOf(run)) {
      let before = reached;
      for (const [at, step] of way.entries()) {
        const into: Positions = at === way.length - 1 ? next : new Positions(segment.positions);
        for (const octets of await read(segment.tokens(step))) into.addBehind(octets, step.mask, step.blanks, before);
        if (into.isEmpty) break;
        before = into;
      }
    }
    if (next.isEmpty) return new Uint8Array(segment.texts);
    reached = next;
  }
  const found = new Uint8Array(segment.texts);
  let text = 0;
  reached?.each((position) => {
    while (position >= segment.firstOf(text + 1)) text++;
    found[text] = 1;
  });
  return found;
}

/** The ways in which a run can lie in a text: in one token, or in some that overlap, since the run around it is long. */
function waysOf(run: WantedRun): Step[][] {
  const points = Array.from(run.text);
  const ways: Step[][] = [];
  if (points.length <= PIECE) ways.push([stepOf(run, points, 0, 0, true)]);
  if (points.length <= STEP) return ways;
  // So many points of the first piece stand before it.
  for (let before = 0; before < (run.begins ? 1 : STEP); before++) {
    // One token has all of it.
    if (PIECE - before >= points.length) continue;
    const way: Step[] = [];
    for (let piece = 0; ; piece++) {
      const end = STEP * piece - before + PIECE;
      way.push(stepOf(run, points.slice(Math.max(0, STEP * piece - before), end), before, piece, end >= points.length));
      if (end >= points.length) break;
    }
    ways.push(way);
  }
  return ways;
}

/** @param piece its place among those of the run. */
function stepOf(run: WantedRun, points: readonly string[], before: number, piece: number, isLast: boolean): Step {
  const begins = piece > 0 || (run.begins && before === 0);
  const ends = !isLast || run.ends;
  const blanks = (piece === 0 ? run.blanks & BLANK_BEFORE : 0) | (isLast ? run.blanks & BLANK_BEHIND : 0);
  const mask = (begins ? BLANK_BEFORE : 0) | (ends ? BLANK_BEHIND : 0);
  return { text: points.join(''), begins, ends, blanks, mask };
}
