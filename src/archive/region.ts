import type { FileHandle } from 'node:fs/promises';
import { CHUNK, Window } from './window';

/** Octets of a file that follow each other: all of it, or a file inside it. */
export class Region {
  private readonly window: Window;
  private readonly behind: Window;

  /** @param base where it begins in the file. */
  constructor(
    private readonly file: FileHandle,
    private readonly base: number,
    /** Octets. */
    readonly size: number,
  ) {
    this.window = new Window(file);
    this.behind = new Window(file);
  }

  /** The octets between two places in it, and no more than there are; at most as many as are read at a time. */
  async octets(from: number, to: number): Promise<Buffer> {
    const end = Math.min(to, this.size, from + CHUNK);
    if (from >= end) return Buffer.alloc(0);
    const found = await this.window.octets(this.base + from, this.base + end);
    if (!found) throw new Error('A file ends before its end.');
    return found;
  }

  /** The octets from one place to another, in order. Small ones that follow each other are read together. */
  async *read(from = 0, to = this.size): AsyncGenerator<Buffer> {
    const end = Math.min(to, this.size);
    // With windows of their own: what is looked at elsewhere meanwhile stays held.
    const window = end - from > CHUNK / 4 ? new Window(this.file) : this.behind;
    yield* window.between(this.base + from, this.base + end);
  }

  part(from: number, size: number): Region {
    return new Region(this.file, this.base + from, Math.max(0, Math.min(size, this.size - from)));
  }
}
