import type { Amount } from '../level/level';
import { type Bits, emptyBits } from './bits';

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
  /** Every row that is in any lot, once. */
  union: Bits;
  total: Amount;
}

/**
 * What each lot holds, adds and holds alone, in the order in which they count. One pass over the words: which rows came
 * before and which are in more than one lot is known word by word, so that hundreds of lots stay in the cache.
 *
 * @param lots sets over the same rows.
 * @param sizes octets by row; sums stay exact below 2^53.
 */
export function planFigures(lots: readonly Bits[], sizes: Float64Array): PlanFigures {
  const figures = lots.map((): LotFigures => ({ own: nothing(), adds: nothing(), only: nothing() }));
  const union = emptyBits(sizes.length);
  const total = nothing();
  for (let index = 0; index < union.length; index++) {
    let seen = 0;
    let shared = 0;
    for (let lot = 0; lot < lots.length; lot++) {
      const word = (lots[lot] as Bits)[index] as number;
      shared |= seen & word;
      seen |= word;
    }
    if (seen === 0) continue;
    union[index] = seen;
    add(total, seen, index, sizes);
    let before = 0;
    for (let lot = 0; lot < lots.length; lot++) {
      const word = (lots[lot] as Bits)[index] as number;
      if (word === 0) continue;
      const { own, adds, only } = figures[lot] as LotFigures;
      const added = word & ~before;
      const alone = word & ~shared;
      add(own, word, index, sizes);
      // Most words of most lots overlap nothing: then one sum is all three.
      if (added === word && alone === word) {
        addLast(adds);
        addLast(only);
      } else {
        add(adds, added, index, sizes);
        add(only, alone, index, sizes);
      }
      before |= word;
    }
  }
  return { lots: figures, union, total };
}

/** What one word held, as it was added last. */
const last = { messages: 0, bytes: 0 };

function add(amount: Amount, word: number, index: number, sizes: Float64Array): void {
  let messages = 0;
  let bytes = 0;
  for (let rest = word; rest !== 0; rest &= rest - 1) {
    messages++;
    bytes += sizes[index * 32 + 31 - Math.clz32(rest & -rest)] as number;
  }
  last.messages = messages;
  last.bytes = bytes;
  addLast(amount);
}

function addLast(amount: Amount): void {
  amount.messages += last.messages;
  amount.bytes += last.bytes;
}

function nothing(): Amount {
  return { messages: 0, bytes: 0 };
}

/** Messages and octets of a set. */
export function amountOfBits(bits: Bits, sizes: Float64Array): Amount {
  const amount = nothing();
  for (let index = 0; index < bits.length; index++) {
    const word = bits[index] as number;
    if (word !== 0) add(amount, word, index, sizes);
  }
  return amount;
}
