/** Messages of one batch at first, and at the least and most. */
const FIRST = 250;
const MIN = 10;
const MAX = 25_000;
/**
 * Milliseconds that a batch should take, and may. Every command costs a server something that does not depend on how many
 * messages it names, in a large folder a second and more: so few large batches are cheaper than many small ones, as long as
 * it can be looked often enough whether the user wants it stopped.
 */
const COMFORTABLE_MS = 2_000;
const LONGEST_MS = 6_000;

/** How much is asked of a server at once: more while it is quick, less when it is slow or complains. */
export class BatchSizer {
  private now = FIRST;

  /** Messages of the next batch at most. */
  get size(): number {
    return this.now;
  }

  /** So many messages were answered for. */
  answered(messages: number, milliseconds: number): void {
    if (milliseconds > LONGEST_MS) this.now = Math.max(MIN, Math.floor(this.now / 2));
    // What was small for another reason says nothing about larger ones.
    else if (messages >= this.now && milliseconds < COMFORTABLE_MS) this.now = Math.min(MAX, this.now * 2);
  }

  /** The server asked for patience, or refused so many at once. */
  complained(messages = this.now): void {
    this.now = Math.max(1, Math.floor(Math.min(this.now, messages) / 2));
  }

  /** Takes no more than so many for now. */
  atMost(messages: number): void {
    this.now = Math.max(1, Math.min(this.now, messages));
  }

  /** After a complaint about single messages: back to the size of the beginning. */
  recovered(): void {
    this.now = Math.max(this.now, MIN);
  }
}
