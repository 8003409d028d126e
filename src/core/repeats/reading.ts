import type { Groups } from './candidates';

/** What has to be read of candidates, of whom some were read before. */
export interface Reading {
  messages: number[];
  bytes: number;
}

/**
 * Which messages have to be read to tell copies apart: those that were not, each once, of groups with several messages; the groups
 * from which most could be won first, as far as a budget reaches. A group is read whole, or not at all.
 *
 * @param twin 0 of a message that was not read.
 * @param budget octets; the first group is read in any case, so that it goes on.
 */
export function readingOf(
  { rows, starts }: Groups,
  { message, size, twin }: { message: Int32Array; size: Float64Array; twin: Int32Array },
  budget: number,
): Reading {
  const groups: { messages: Map<number, number>; bytes: number; win: number }[] = [];
  for (let group = 0; group + 1 < starts.length; group++) {
    const members = rows.subarray(starts[group], starts[group + 1]);
    const sizes = new Map<number, number>();
    const unread = new Map<number, number>();
    let [all, largest] = [0, 0];
    for (const row of members) {
      const octets = size[row] as number;
      sizes.set(message[row] as number, octets);
      all += octets;
      largest = Math.max(largest, octets);
      if (twin[row] === 0) unread.set(message[row] as number, octets);
    }
    // One message in several folders is the same without being read.
    if (sizes.size < 2 || unread.size === 0) continue;
    const bytes = [...unread.values()].reduce((sum, octets) => sum + octets, 0);
    groups.push({ messages: unread, bytes, win: all - largest });
  }
  groups.sort((a, b) => b.win - a.win);
  const reading: Reading = { messages: [], bytes: 0 };
  for (const { messages, bytes } of groups) {
    if (reading.messages.length > 0 && reading.bytes + bytes > budget) continue;
    for (const message of messages.keys()) reading.messages.push(message);
    reading.bytes += bytes;
  }
  return reading;
}
