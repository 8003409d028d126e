import type { Downloaded } from '../../mail/server';

/** Octets that are held of one connection before it waits. */
const MOST_OCTETS = 8 * 2 ** 20;

/** Room in memory for what one connection reads, in however many queues it waits to be taken. */
export class Room {
  private octets = 0;
  private changed: (() => void) | undefined;

  get isFull(): boolean {
    return this.octets >= MOST_OCTETS;
  }

  use(octets: number): void {
    this.octets += octets;
  }

  free(octets: number): void {
    this.octets -= octets;
    this.tell();
  }

  /** Resolves when there may be room again. One waits at a time. */
  change(): Promise<void> {
    return new Promise((resolve) => {
      this.changed = resolve;
    });
  }

  tell(): void {
    const { changed } = this;
    this.changed = undefined;
    changed?.();
  }
}

/** Pieces on their way from a connection to whoever writes them, in order. One puts, and one takes. */
export class PieceQueue {
  private readonly held: Downloaded[] = [];
  private room: Room | undefined;
  private end: { failure?: unknown } | undefined;
  /** Whether nobody takes them any more. */
  isClosed = false;
  private changed: (() => void) | undefined;

  /**
   * Resolves once it is held; to false where nobody takes them any more.
   *
   * @param room of the connection, the same for all that it puts.
   */
  async put(piece: Downloaded, room: Room): Promise<boolean> {
    this.room = room;
    while (room.isFull && !this.isClosed) await room.change();
    if (this.isClosed) return false;
    this.held.push(piece);
    if ('octets' in piece) room.use(piece.octets.length);
    this.tell();
    return true;
  }

  /** @param failure is thrown behind the last piece. */
  finish(end: { failure?: unknown } = {}): void {
    this.end ??= end;
    this.tell();
  }

  /** Nothing more is taken. */
  close(): void {
    this.isClosed = true;
    this.held.length = 0;
    this.room?.tell();
  }

  async *pieces(): AsyncGenerator<Downloaded> {
    for (;;) {
      for (let next = this.held.shift(); next; next = this.held.shift()) {
        if ('octets' in next) this.room?.free(next.octets.length);
        yield next;
      }
      if (this.end) {
        if ('failure' in this.end) throw this.end.failure;
        return;
      }
      await new Promise<void>((resolve) => {
        this.changed = resolve;
      });
    }
  }

  private tell(): void {
    const { changed } = this;
    this.changed = undefined;
    changed?.();
  }
}
