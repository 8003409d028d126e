import type { Amount } from '../level/level';
import { type Bits, emptyBits } from './bits';

/** A set of rows as the words that hold any, with what it holds: so that a small lot costs little, however many rows. */
export interface LotSet {
  readonly indexes: Uint32Array;
  readonly words: Uint32Array;
  readonly own: Amount;
}

/** A lot among others. */
export interface LotFigures {
  own: Amount;
  /** What it adds to those before it. */
  adds: Amount;
  /** What no other lot holds. */
  only: Amount;
}

export interface PlanFigures {
  lots: LotFigures[];
  /** Of every row that is in any lot, once. */
  total: Amount;
}

/**
 * @param sizes octets by row; sums stay exact below 2^53.
 * @param messages how many rows, the first ones, are messages. Those behind are parts of them that lots may hold by themselves;
 *   what a message row counts is the rest of it then.
 */
export function lotSet(bits: Bits, sizes: Float64Array, messages = sizes.length): LotSet {
  let count = 0;
  for (let index = 0; index < bits.length; index++) if (bits[index] !== 0) count++;
  const indexes = new Uint32Array(count);
  const words = new Uint32Array(count);
  let at = 0;
  for (let index = 0; index < bits.length; index++)
    if (bits[index] !== 0) {
      indexes[at] = index;
      words[at++] = bits[index] as number;
    }
  return { indexes, words, own: sumOf(indexes, words, sizes, messages) };
}

/**
 * What each lot adds and holds alone, in the order in which they count: once through the words of all lots to know what
 * came before and what is in more than one, and once more for what is in one only.
 *
 * @param lots sets over the same rows.
 * @param messages as for `lotSet`.
 */
export function planFigures(lots: readonly LotSet[], sizes: Float64Array, messages = sizes.length): PlanFigures {
  const seen = emptyBits(sizes.length);
  const shared = emptyBits(sizes.length);
  const total = { messages: 0, bytes: 0 };
  const figures = lots.map(({ indexes, words, own }): LotFigures => {
    const added = new Uint32Array(words.length);
    for (let at = 0; at < words.length; at++) {
      const index = indexes[at] as number;
      const word = words[at] as number;
      const before = seen[index] as number;
      added[at] = word & ~before;
      shared[index] = (shared[index] as number) | (word & before);
      seen[index] = before | word;
    }
    const adds = sumOf(indexes, added, sizes, messages);
    total.messages += adds.messages;
    total.bytes += adds.bytes;
    return { own, adds, only: own };
  });
  for (const [lot, { indexes, words }] of lots.entries()) {
    const alone = new Uint32Array(words.length);
    for (let at = 0; at < words.length; at++)
      alone[at] = (words[at] as number) & ~(shared[indexes[at] as number] as number);
    (figures[lot] as LotFigures).only = sumOf(indexes, alone, sizes, messages);
  }
  return { lots: figures, total };
}

/** Messages and octets of words at their indexes. */
function sumOf(indexes: Uint32Array, words: Uint32Array, sizes: Float64Array, messageRows: number): Amount {
  let messages = 0;
  let bytes = 0;
  for (let at = 0; at < words.length; at++) {
    const first = (indexes[at] as number) * 32;
    for (let rest = words[at] as number; rest !== 0; rest &= rest - 1) {
      const row = first + 31 - Math.clz32(rest & -rest);
      if (row < messageRows) messages++;
      bytes += sizes[row] as number;
    }
  }
  return { messages, bytes };
}
