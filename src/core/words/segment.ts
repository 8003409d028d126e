import { eachVarint, VarintWriter } from './varints';

const FEED = 10;
/** Two bits of an occurrence say which blanks stand beside it (tokens.ts). */
export const BLANK_BITS = 2;
const BLANKS = 2 ** BLANK_BITS;

/**
 * Which of some texts hold which tokens, and where, in the form in which it is kept: a positional index (Manning, Raghavan,
 * Schütze: Introduction to Information Retrieval, 2008, §2.4.2). The texts have numbers from 0. Their tokens have positions,
 * counted through all of them; one that no token has lies between two texts. All numbers are varints.
 */
export interface PackedSegment {
  /** Each token once, in UTF-8, each between two line feeds, which none holds. */
  words: Uint8Array;
  /** Of each token how many octets its numbers take, and how many its positions. */
  lengths: Uint8Array;
  /** Of each token the numbers of its texts: the first, then how much more each is than the one before. */
  numbers: Uint8Array;
  /** Of each token its positions, in the same way, each times four and with the blanks beside it added. */
  positions: Uint8Array;
  /** Of each text how many tokens it has. */
  counts: Uint8Array;
}

/** Collects the tokens of texts, one text behind the other. */
export class SegmentBuilder {
  private readonly ids = new Map<string, number>();
  /** Tokens as they follow each other: which, and its blanks. */
  private sequence = new Uint32Array(1 << 16);
  private length = 0;
  private readonly counts: number[] = [];
  private begun = 0;

  get texts(): number {
    return this.counts.length;
  }

  /** Tokens of all texts; more take more memory. */
  get size(): number {
    return this.length;
  }

  get words(): number {
    return this.ids.size;
  }

  /** @param blanks beside it. */
  add(token: string, blanks: number): void {
    let id = this.ids.get(token);
    if (id === undefined) {
      id = this.ids.size;
      this.ids.set(token, id);
    }
    if (this.length === this.sequence.length) {
      const larger = new Uint32Array(this.length * 2);
      larger.set(this.sequence);
      this.sequence = larger;
    }
    this.sequence[this.length++] = id * BLANKS + blanks;
  }

  /** Ends the text whose tokens were added. */
  endText(): void {
    this.counts.push(this.length - this.begun);
    this.begun = this.length;
  }

  /** Where in the sequence each token occurs, by token, and within one in their order: a counting sort. */
  private byToken(): { starts: Uint32Array; occurrences: Uint32Array } {
    const next = new Uint32Array(this.ids.size + 1);
    const advance = (token: number) => {
      const at = next[token] as number;
      next[token] = at + 1;
      return at;
    };
    for (let at = 0; at < this.length; at++) advance(((this.sequence[at] as number) >>> BLANK_BITS) + 1);
    for (let token = 0; token < this.ids.size; token++)
      next[token + 1] = (next[token + 1] as number) + (next[token] as number);
    const starts = next.slice();
    const occurrences = new Uint32Array(this.length);
    for (let at = 0; at < this.length; at++) occurrences[advance((this.sequence[at] as number) >>> BLANK_BITS)] = at;
    return { starts, occurrences };
  }

  /** Of each token of the sequence the text that it is in. */
  private textsOfSequence(): Uint32Array {
    const texts = new Uint32Array(this.length);
    let at = 0;
    for (const [text, count] of this.counts.entries()) {
      texts.fill(text, at, at + count);
      at += count;
    }
    return texts;
  }

  end(): PackedSegment {
    const { starts, occurrences } = this.byToken();
    const texts = this.textsOfSequence();
    const entries = [...this.ids].sort(([a], [b]) => (a < b ? -1 : 1));
    const lengths = new VarintWriter();
    const numbers = new VarintWriter();
    const positions = new VarintWriter();
    for (const [, id] of entries) {
      const [fromNumbers, fromPositions] = [numbers.length, positions.length];
      let [textBefore, positionBefore] = [-1, 0];
      for (let each = starts[id] as number; each < (starts[id + 1] as number); each++) {
        const at = occurrences[each] as number;
        const text = texts[at] as number;
        if (text !== textBefore) numbers.push(text - Math.max(0, textBefore));
        const position = at + text;
        positions.push((position - positionBefore) * BLANKS + ((this.sequence[at] as number) % BLANKS));
        textBefore = text;
        positionBefore = position;
      }
      lengths.push(numbers.length - fromNumbers);
      lengths.push(positions.length - fromPositions);
    }
    const counts = new VarintWriter();
    for (const count of this.counts) counts.push(count);
    return {
      words: new TextEncoder().encode(`\n${entries.map(([token]) => token).join('\n')}\n`),
      lengths: lengths.end(),
      numbers: numbers.end(),
      positions: positions.end(),
      counts: counts.end(),
    };
  }
}

/** What tokens have to be like: a part that they hold, and whether they begin and end with it. */
export interface TokenPattern {
  text: string;
  begins: boolean;
  ends: boolean;
}

/** Answers which tokens are like a pattern, which texts have them, and where their positions are kept. */
export class Segment {
  /** Where each token begins, and where its numbers and its positions end. */
  private readonly starts: Uint32Array;
  private readonly ends: Uint32Array;
  private readonly positionEnds: Uint32Array;
  /** The first position of each text, and one behind all. */
  private readonly firsts: Uint32Array;

  /** @throws RangeError where the parts don't fit together. */
  constructor(
    private readonly packed: Omit<PackedSegment, 'positions'>,
    readonly texts: number,
  ) {
    const { words, lengths, numbers, counts } = packed;
    const ends: number[] = [];
    const positionEnds: number[] = [];
    let isOfNumbers = true;
    eachVarint(lengths, 0, lengths.length, (length) => {
      const of = isOfNumbers ? ends : positionEnds;
      of.push((of.at(-1) ?? 0) + length);
      isOfNumbers = !isOfNumbers;
    });
    const starts: number[] = [];
    for (let at = words.indexOf(FEED); at >= 0 && at < words.length - 1; at = words.indexOf(FEED, at + 1))
      starts.push(at + 1);
    const firsts = [0];
    eachVarint(counts, 0, counts.length, (count) => firsts.push((firsts.at(-1) as number) + count + 1));
    if (ends.length > 0 && (ends.at(-1) !== numbers.length || starts.length !== ends.length))
      throw new RangeError('The words of a segment do not fit to their numbers.');
    if (ends.length !== positionEnds.length || firsts.length !== texts + 1)
      throw new RangeError('The positions of a segment do not fit to its texts.');
    this.starts = Uint32Array.from(starts);
    this.ends = Uint32Array.from(ends);
    this.positionEnds = Uint32Array.from(positionEnds);
    this.firsts = Uint32Array.from(firsts);
  }

  /** Octets that it takes in memory. */
  get size(): number {
    const { words, numbers } = this.packed;
    return words.length + numbers.length + 4 * (3 * this.starts.length + this.firsts.length);
  }

  /** Positions of all tokens, those between the texts included. */
  get positions(): number {
    return this.firsts.at(-1) as number;
  }

  /** Octets that the positions of all tokens take. */
  get positionOctets(): number {
    return this.positionEnds.at(-1) ?? 0;
  }

  /** The tokens that are like a pattern, by their place in the order of all. */
  tokens({ text, begins, ends }: TokenPattern): number[] {
    if (this.ends.length === 0) return [];
    const wanted = new TextEncoder().encode(`${begins ? '\n' : ''}${text}${ends ? '\n' : ''}`);
    const { words } = this.packed;
    const haystack = Buffer.from(words.buffer, words.byteOffset, words.byteLength);
    const found: number[] = [];
    for (let at = haystack.indexOf(wanted); at >= 0; at = haystack.indexOf(wanted, at + 1)) {
      const token = placeOf(begins ? at + 1 : at, this.starts);
      if (token !== found.at(-1)) found.push(token);
    }
    return found;
  }

  /** A bit for each text, set where it has one of some tokens. */
  textsWith(tokens: readonly number[]): Uint8Array {
    const found = new Uint8Array(this.texts);
    for (const token of tokens) {
      const from = token === 0 ? 0 : (this.ends[token - 1] as number);
      let text = 0;
      eachVarint(this.packed.numbers, from, this.ends[token] as number, (more) => {
        text += more;
        if (text < found.length) found[text] = 1;
      });
    }
    return found;
  }

  /** Where the positions of a token are kept: from one octet up to another. */
  positionsAt(token: number): [from: number, to: number] {
    return [token === 0 ? 0 : (this.positionEnds[token - 1] as number), this.positionEnds[token] as number];
  }

  /** The first position of a text; for one behind all, one behind all positions. */
  firstOf(text: number): number {
    return this.firsts[text] as number;
  }
}

/** The last of ascending numbers that is not above one; by halving. */
function placeOf(number: number, ascending: Uint32Array): number {
  let low = 0;
  let high = ascending.length - 1;
  while (low < high) {
    const middle = (low + high + 1) >>> 1;
    if ((ascending[middle] as number) <= number) low = middle;
    else high = middle - 1;
  }
  return low;
}
