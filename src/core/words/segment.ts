import type { Fragment } from './tokens';
import { eachVarint, VarintWriter } from './varints';

const FEED = 10;

/** Which of some texts hold which words, in the form in which it is kept. The texts have numbers from 0. */
export interface PackedSegment {
  /** Each word once, in UTF-8, each between two line feeds, which no word holds. */
  words: Uint8Array;
  /** Of each word how many octets its numbers take, as varints. */
  lengths: Uint8Array;
  /** Of each word the numbers of its texts, as varints: the first, then how much more each is than the one before. */
  numbers: Uint8Array;
}

/** Collects the words of texts, one text behind the other. */
export class SegmentBuilder {
  private readonly ids = new Map<string, number>();
  /** The last text of each word. */
  private readonly last: number[] = [];
  /** Pairs of a word and a text, in the order of the texts. */
  private pairs = new Uint32Array(1 << 16);
  private count = 0;
  texts = 0;

  /** Words in texts; more take more memory. */
  get size(): number {
    return this.count;
  }

  get words(): number {
    return this.last.length;
  }

  /** Ends the text whose words were added. */
  endText(): void {
    this.texts++;
  }

  add(word: string): void {
    let id = this.ids.get(word);
    if (id === undefined) {
      id = this.last.length;
      this.ids.set(word, id);
      this.last.push(-1);
    }
    if (this.last[id] === this.texts) return;
    this.last[id] = this.texts;
    if (2 * this.count === this.pairs.length) {
      const larger = new Uint32Array(this.pairs.length * 2);
      larger.set(this.pairs);
      this.pairs = larger;
    }
    this.pairs[2 * this.count] = id;
    this.pairs[2 * this.count + 1] = this.texts;
    this.count++;
  }

  /** The numbers of the texts by word, and within a word in their order: a counting sort. */
  private byWord(): { starts: Uint32Array; numbers: Uint32Array } {
    const words = this.last.length;
    const next = new Uint32Array(words + 1);
    const advance = (word: number) => {
      const at = next[word] as number;
      next[word] = at + 1;
      return at;
    };
    for (let at = 0; at < this.count; at++) advance((this.pairs[2 * at] as number) + 1);
    for (let word = 0; word < words; word++) next[word + 1] = (next[word + 1] as number) + (next[word] as number);
    const starts = next.slice();
    const numbers = new Uint32Array(this.count);
    for (let at = 0; at < this.count; at++)
      numbers[advance(this.pairs[2 * at] as number)] = this.pairs[2 * at + 1] as number;
    return { starts, numbers };
  }

  end(): PackedSegment {
    const { starts, numbers: sorted } = this.byWord();
    const entries = [...this.ids].sort(([a], [b]) => (a < b ? -1 : 1));
    const lengths = new VarintWriter();
    const numbers = new VarintWriter();
    for (const [, id] of entries) {
      const from = numbers.length;
      let before = 0;
      for (let at = starts[id] as number; at < (starts[id + 1] as number); at++) {
        numbers.push((sorted[at] as number) - before);
        before = sorted[at] as number;
      }
      lengths.push(numbers.length - from);
    }
    const words = new TextEncoder().encode(`\n${entries.map(([word]) => word).join('\n')}\n`);
    return { words, lengths: lengths.end(), numbers: numbers.end() };
  }
}

/** Answers which texts have a word that holds a fragment. */
export class Segment {
  /** Where each word begins, and where its numbers end. */
  private readonly starts: Uint32Array;
  private readonly ends: Uint32Array;

  /** @throws RangeError where the parts don't fit together. */
  constructor(
    private readonly packed: PackedSegment,
    readonly texts: number,
  ) {
    const { words, lengths, numbers } = packed;
    const ends: number[] = [];
    let end = 0;
    eachVarint(lengths, 0, lengths.length, (length) => {
      end += length;
      ends.push(end);
    });
    const starts: number[] = [];
    for (let at = words.indexOf(FEED); at >= 0 && at < words.length - 1; at = words.indexOf(FEED, at + 1))
      starts.push(at + 1);
    if (ends.length > 0 && (end !== numbers.length || starts.length !== ends.length))
      throw new RangeError('The words of a segment do not fit to their numbers.');
    this.starts = Uint32Array.from(starts);
    this.ends = Uint32Array.from(ends);
  }

  /** Octets that it takes in memory. */
  get size(): number {
    const { words, lengths, numbers } = this.packed;
    return words.length + lengths.length + numbers.length + this.starts.byteLength + this.ends.byteLength;
  }

  /** A bit for each text, set where it has such a word. */
  find({ text, begins, ends }: Fragment): Uint8Array {
    const found = new Uint8Array(this.texts);
    if (this.ends.length === 0) return found;
    const wanted = new TextEncoder().encode(`${begins ? '\n' : ''}${text}${ends ? '\n' : ''}`);
    const { words } = this.packed;
    const haystack = Buffer.from(words.buffer, words.byteOffset, words.byteLength);
    let before = -1;
    for (let at = haystack.indexOf(wanted); at >= 0; at = haystack.indexOf(wanted, at + 1)) {
      const word = this.wordAt(begins ? at + 1 : at);
      if (word !== before) this.mark(word, found);
      before = word;
    }
    return found;
  }

  /** Which word has the octet at a place; by halving. */
  private wordAt(place: number): number {
    let low = 0;
    let high = this.starts.length - 1;
    while (low < high) {
      const middle = (low + high + 1) >>> 1;
      if ((this.starts[middle] as number) <= place) low = middle;
      else high = middle - 1;
    }
    return low;
  }

  private mark(word: number, found: Uint8Array): void {
    const from = word === 0 ? 0 : (this.ends[word - 1] as number);
    let text = 0;
    eachVarint(this.packed.numbers, from, this.ends[word] as number, (more) => {
      text += more;
      if (text < found.length) found[text] = 1;
    });
  }
}
