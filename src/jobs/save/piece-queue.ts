import type { Downloaded } from '../../mail/server';

/** Octets that are held before whoever puts them waits. */
const MOST_OCTETS = 8 * 2 ** 20;

/** Pieces on their way from a connection to whoever writes them: in order, and no more than a few. One puts, and one takes. */
export class PieceQueue {
  private readonly held: Downloaded[] = [];
  private octets = 0;
  private end: { failure?: unknown } | undefined;
  /** Whether nobody takes them any more. */
  isClosed = false;
  private changed: (() => void) | undefined;

  /** Resolves when there is room for more; to false where nobody takes them any more. */
  async put(piece: Downloaded): Promise<boolean> {
    while (this.octets >= MOST_OCTETS && !this.isClosed) await this.change();
    if (this.isClosed) return false;
    this.held.push(piece);
    if ('octets' in piece) this.octets += piece.octets.length;
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
    this.tell();
  }

  async *pieces(): AsyncGenerator<Downloaded> {
    for (;;) {
      for (let next = this.held.shift(); next; next = this.held.shift()) {
        if ('octets' in next) this.octets -= next.octets.length;
        this.tell();
        yield next;
      }
      if (this.end) {
        if ('failure' in this.end) throw this.end.failure;
        return;
      }
      await this.change();
    }
  }

  private change(): Promise<void> {
    return new Promise((resolve) => {
      const others = this.changed;
      this.changed = () => {
        others?.();
        resolve();
      };
    });
  }

  private tell(): void {
    const { changed } = this;
    this.changed = undefined;
    changed?.();
  }
}
