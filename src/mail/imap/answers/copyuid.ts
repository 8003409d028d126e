import type { Status } from '../wire/status';
import { readSet } from './search';

/** Under which UIDs messages arrived (COPYUID, RFC 4315 §3). */
export interface CopiedUids {
  uidValidity: number;
  /** UIDs at the source, to UIDs at the destination. */
  uids: Map<number, number>;
}

/**
 * Reads COPYUID, which pairs two sets in the order in which they are written.
 *
 * @param most how many messages were sent: a set that names more is not believed.
 * @returns undefined where it is not there or can't be believed; then it is looked where the messages are.
 */
export function copiedUids({ code, details }: Pick<Status, 'code' | 'details'>, most: number): CopiedUids | undefined {
  if (code !== 'COPYUID') return undefined;
  const [validity = '', from = '', to = ''] = details.split(' ');
  try {
    const sources = numbers(from, most);
    const arrived = numbers(to, most);
    if (!/^\d{1,10}$/.test(validity) || !sources || !arrived || sources.length !== arrived.length) return undefined;
    const uids = new Map(sources.map((uid, index) => [uid, arrived[index] as number]));
    // One UID that stands for two messages says nothing of either.
    if (uids.size !== sources.length || new Set(arrived).size !== arrived.length) return undefined;
    return { uidValidity: Number(validity), uids };
  } catch {
    return undefined;
  }
}

function numbers(text: string, most: number): number[] | undefined {
  const uids: number[] = [];
  for (const [first, last] of readSet(text)) {
    if (uids.length + last - first + 1 > most) return undefined;
    for (let uid = first; uid <= last; uid++) uids.push(uid);
  }
  return uids;
}
