import type { Columns } from '../columns/columns';
import type { Amount } from './level';

/** What must go: octets, or messages where the host limits their number. */
export type Need = { bytes: number } | { messages: number };

/** How far one way goes, alone. */
export interface Reach extends Amount {
  reaches: boolean;
  /** The value of the last message that it takes, undefined where it takes none. */
  edge: number | undefined;
}

/**
 * Takes messages in an order until what must go is gone, and then those that belong with the last one, so that criteria
 * can say the same: all of one size, or all of one day.
 *
 * @param order rows, those to go first in front.
 * @param mask one octet a row, 0 where it is not to be taken.
 * @param valueAt what the order goes by.
 * @param belongs whether a further value goes with the last one that was needed.
 */
export function reach(
  columns: Columns,
  order: Uint32Array,
  mask: Uint8Array,
  need: Need,
  valueAt: (row: number) => number,
  belongs: (value: number, last: number) => boolean,
): Reach {
  let last: number | undefined;
  const taken: Reach = { messages: 0, bytes: 0, reaches: enough({ messages: 0, bytes: 0 }, need), edge: undefined };
  for (let place = 0; place < order.length; place++) {
    const row = order[place] as number;
    if (mask[row] === 0) continue;
    const value = valueAt(row);
    if (taken.reaches && (last === undefined || !belongs(value, last))) break;
    taken.messages++;
    taken.bytes += columns.size[row] as number;
    taken.edge = value;
    if (!taken.reaches && enough(taken, need)) {
      taken.reaches = true;
      last = value;
    }
  }
  return taken;
}

function enough(taken: Amount, need: Need): boolean {
  return 'bytes' in need ? taken.bytes >= need.bytes : taken.messages >= need.messages;
}
