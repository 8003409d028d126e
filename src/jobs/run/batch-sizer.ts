/** Messages of one batch at first, and at the least and most. */
const FIRST = 250;
const MIN = 10;
const MAX = 25_000;
/**
 * Milliseconds. A batch that takes less may be larger; one that takes more is made smaller, where that makes it quicker. Between
 * two batches it is looked whether the user wants the run stopped.
 */
const COMFORTABLE_MS = 2_000;
const MAX_BATCH_MS = 6_000;
/** By how much the least is raised with each measurement. */
const FORGETS = 1.05;
/** Milliseconds from which on no batch grows, however little its messages add: a command has a deadline. */
const NEVER_LONGER_MS = 45_000;

/**
 * How much is asked of a server at once: more while it is quick, less when it is slow or complains.
 *
 * A command costs a server something that does not depend on how many messages it names: in a folder of a million maybe ten
 * seconds. Who makes batches smaller then only sends more of these commands. So what two sizes took is held against each
 * other: where the fixed cost is the larger part a batch grows, and it shrinks only where its messages are.
 */
export class BatchSizer {
  private now = FIRST;
  /** The least that batches of a size took, by size: what disturbs a measurement only adds to it. */
  private readonly least = new Map<number, number>();

  /** Messages of the next batch at most. */
  get size(): number {
    return this.now;
  }

  /** So many messages were answered for. */
  answered(messages: number, ms: number): void {
    const full = messages >= this.now;
    // A server may have become slower for good.
    if (full) this.least.set(messages, Math.min(ms, (this.least.get(messages) ?? ms) * FORGETS));
    const ofMessages = full ? this.costOfMessages(messages) : undefined;
    const fixed = (this.least.get(messages) ?? ms) - (ofMessages ?? 0);
    if (ms >= COMFORTABLE_MS && ofMessages !== undefined && fixed > ofMessages) {
      if (ms < NEVER_LONGER_MS) this.grow();
    } else if (ms > MAX_BATCH_MS) {
      if (ofMessages === undefined || ofMessages > 2 * fixed || ms > NEVER_LONGER_MS) this.shrink();
    }
    // What was small for another reason says nothing about larger ones.
    else if (full && (ms < COMFORTABLE_MS || ofMessages === undefined)) this.grow();
  }

  /** Which part of what a batch takes is for its messages, by the size next to it; undefined before two were measured. */
  private costOfMessages(messages: number): number | undefined {
    const own = this.least.get(messages) as number;
    const distance = (size: number) => Math.abs(Math.log(size / messages));
    const [next] = [...this.least.keys()].filter((size) => size !== messages).sort((a, b) => distance(a) - distance(b));
    if (next === undefined) return undefined;
    const each = (own - (this.least.get(next) as number)) / (messages - next);
    return Math.min(own, Math.max(0, each * messages));
  }

  private grow(): void {
    this.now = Math.min(MAX, this.now * 2);
  }

  private shrink(): void {
    this.now = Math.max(MIN, Math.floor(this.now / 2));
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
