import type { Item } from '../message/item';

/** A message in a folder. `gone` is set when it is expunged, so that sessions that still see it notice. */
export interface Placed {
  readonly uid: number;
  /** Names the content for the journal and for EMAILID (RFC 8474). */
  readonly ref: string;
  readonly item: Item;
  /** INTERNALDATE, seconds since the epoch. */
  readonly received: number;
  /** When it came into this folder (SAVEDATE, RFC 8514), seconds since the epoch. */
  readonly saved: number;
  /** Lower-case system flags without backslash, and keywords as written. */
  flags: Set<string>;
  modSeq: number;
  gone: boolean;
  /** Its entry in the view of every message, where there is one. */
  mirror?: Placed;
}

export interface Folder {
  name: string;
  use: string | undefined;
  uidValidity: number;
  uidNext: number;
  /** Highest mod-sequence of any change in it, expunges included (RFC 7162). */
  modSeq: number;
  /** By rising UID. */
  messages: Placed[];
  bytes: number;
  readOnly: boolean;
}

/** Index of the first message with at least this UID. */
export function indexOfUid(messages: readonly Placed[], uid: number): number {
  let low = 0;
  let high = messages.length;
  while (low < high) {
    const middle = (low + high) >>> 1;
    if ((messages[middle] as Placed).uid < uid) low = middle + 1;
    else high = middle;
  }
  return low;
}
