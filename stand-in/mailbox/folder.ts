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

/** What is known of a folder before its messages are made. */
export interface Outline {
  messages: number;
  bytes: number;
  unseen: number;
  /** Makes them, by rising UID from 1. */
  make(): Placed[];
}

/** A folder. One that has an outline makes its messages when somebody looks at them: a host has many that nobody opens. */
export class Folder {
  uidNext: number;
  bytes: number;
  readonly readOnly: boolean;
  private placed: Placed[] | undefined;

  /** @param modSeq highest mod-sequence of any change in it, expunges included (RFC 7162). */
  constructor(
    public name: string,
    readonly use: string | undefined,
    public uidValidity: number,
    public modSeq: number,
    private readonly outline?: Outline,
  ) {
    this.uidNext = (outline?.messages ?? 0) + 1;
    this.bytes = outline?.bytes ?? 0;
    this.readOnly = use === '\\All';
  }

  /** By rising UID. */
  get messages(): Placed[] {
    this.placed ??= this.outline?.make() ?? [];
    return this.placed;
  }

  set messages(placed: Placed[]) {
    this.placed = placed;
  }

  get count(): number {
    return this.placed?.length ?? this.outline?.messages ?? 0;
  }

  get unseen(): number {
    if (!this.placed && this.outline) return this.outline.unseen;
    return this.messages.filter(({ flags }) => !flags.has('seen')).length;
  }
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
