/** Messages of one command at first, and at the least and most. */
const FIRST = 250;
const LEAST = 10;
const MOST = 25_000;
/**
 * Milliseconds that a command should take, and may. Every command costs a server something that does not depend on how
 * many messages it names, in a large folder a second and more: so few large commands are cheaper than many small ones, as
 * long as it can be looked often enough whether the user wants it stopped.
 */
const COMFORTABLE_MS = 2_000;
const LONGEST_MS = 6_000;
/** Octets of the set in one command; with the rest of the line it stays below what servers take (RFC 7162 §4). */
const MOST_OCTETS = 7_000;

/** How much is asked of a server at once: more while it is quick, less when it is slow or complains. */
export class Pace {
  private size = FIRST;

  /** A command was answered. */
  answered(messages: number, milliseconds: number): void {
    if (milliseconds > LONGEST_MS) this.size = Math.max(LEAST, Math.floor(this.size / 2));
    // A command that was small for another reason says nothing about larger ones.
    else if (messages >= this.size && milliseconds < COMFORTABLE_MS) this.size = Math.min(MOST, this.size * 2);
  }

  /** The server asked for patience, or refused so many at once. */
  complained(messages = this.size): void {
    this.size = Math.max(1, Math.floor(Math.min(this.size, messages) / 2));
  }

  /** Takes no more than so many for now. */
  atMost(messages: number): void {
    this.size = Math.max(1, Math.min(this.size, messages));
  }

  /** After a complaint about single messages: back to the size of the beginning. */
  recovered(): void {
    this.size = Math.max(this.size, LEAST);
  }

  /** How many of these UIDs, rising, go into the next command. */
  share(uids: readonly number[]): number {
    let octets = 0;
    let count = 0;
    let last = Number.NaN;
    for (const uid of uids) {
      if (count === this.size) break;
      // A range is two numbers, a colon and a comma; a UID that extends it costs nothing more.
      if (uid !== last + 1) octets += 2 * `${uid}`.length + 2;
      if (octets > MOST_OCTETS && count > 0) break;
      last = uid;
      count++;
    }
    return count;
  }
}
