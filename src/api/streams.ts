import type { Database } from '../store/database';
import { listen } from '../store/events';
import type { Identity } from './identity';
import { Problem } from './problem';

/** Streams that one session, or one token, may have open: as many as there are pages of it. */
const MAX_STREAMS = 20;

/** A stream of events that is open. */
export interface Stream {
  account: number;
  /** Something happened in its account. */
  wake(): void;
  /** Somebody was signed out. */
  doubt(): void;
}

/** The streams of this process; one listening connection serves all. */
export class Streams {
  private readonly open = new Set<Stream>();
  private readonly byIdentity = new Map<string, number>();

  constructor(database: Database) {
    listen(database, 'events', (said) => {
      // The notification of an event is its number and its account (store/events).
      const account = said === '' ? undefined : Number(said.split(' ')[1]);
      for (const stream of this.open) {
        if (account === undefined) stream.doubt();
        if (account === undefined || stream.account === account) stream.wake();
      }
    });
  }

  /**
   * Admits a stream of somebody.
   *
   * @returns takes it away again.
   * @throws Problem 429 where they have too many.
   */
  add(identity: Identity, stream: Stream): () => void {
    const key = identity.sessionHash?.toString('hex') ?? `${stream.account} ${identity.token}`;
    const others = this.byIdentity.get(key) ?? 0;
    if (others >= MAX_STREAMS)
      throw new Problem(429, 'too-many-streams', 'Too many streams', 'Close other Tamsel tabs first.');
    this.byIdentity.set(key, others + 1);
    this.open.add(stream);
    return () => {
      if (!this.open.delete(stream)) return;
      const left = (this.byIdentity.get(key) ?? 1) - 1;
      if (left > 0) this.byIdentity.set(key, left);
      else this.byIdentity.delete(key);
    };
  }
}
