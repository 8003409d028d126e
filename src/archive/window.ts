import type { FileHandle } from 'node:fs/promises';

/** Octets that are read at a time. */
export const CHUNK = 4 * 1024 * 1024;

/** The octets of a file, read a few at a time, one behind the other. */
export class Window {
  private from = 0;
  private held = Buffer.alloc(0);

  /** @param chunk octets that are read at a time. */
  constructor(
    private readonly file: FileHandle,
    private readonly chunk = CHUNK,
  ) {}

  /** So many octets, no more than are read at a time; undefined where the file ends before. */
  async octets(from: number, to: number): Promise<Buffer | undefined> {
    if (from < this.from || to > this.from + this.held.length) {
      const { bytesRead, buffer } = await this.file.read(Buffer.allocUnsafe(this.chunk), 0, this.chunk, from);
      this.from = from;
      this.held = buffer.subarray(0, bytesRead);
    }
    return to <= this.from + this.held.length ? this.held.subarray(from - this.from, to - this.from) : undefined;
  }

  /** Ends where the file does. */
  async *between(from: number, to: number): AsyncGenerator<Buffer> {
    for (let at = from; at < to; ) {
      // What is held is given before more is read.
      const heldTo = this.from + this.held.length;
      const next = at >= this.from && at < heldTo ? Math.min(to, heldTo) : Math.min(to, at + this.chunk);
      const octets = await this.octets(at, next);
      if (!octets) return;
      yield octets;
      at = next;
    }
  }
}
