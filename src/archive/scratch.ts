import { randomUUID } from 'node:crypto';
import { type FileHandle, open, unlink } from 'node:fs/promises';
import { join } from 'node:path';
import { SMALL } from './digest';
import { makeFolder, orDiskFull } from './disk';

/** Octets that are read at a time. */
const CHUNK = 1024 * 1024;

/**
 * Octets of work under way. What is small stays in memory. All else is in a file that has no name any more once it is open, so
 * that nothing of it is left however the work ends.
 */
export class Scratch {
  private readonly held: Uint8Array[] = [];
  private octets: Buffer | undefined;
  private size = 0;
  private file: FileHandle | undefined;

  constructor(private readonly folder: string) {}

  /** Writes octets behind those that are there. @throws DiskFull */
  async write(octets: AsyncIterable<Uint8Array>): Promise<void> {
    for await (const piece of octets) {
      this.size += piece.length;
      if (!this.file && this.size <= SMALL) this.held.push(piece);
      else await this.append(piece);
    }
    if (!this.file) this.octets = Buffer.concat(this.held);
  }

  private async append(piece: Uint8Array): Promise<void> {
    const file = this.file ?? (await nameless(this.folder));
    this.file = file;
    for (const earlier of [...this.held.splice(0), piece]) await orDiskFull(() => file.writeFile(earlier));
  }

  /** The octets from one up to but without another. */
  async *read(from: number, to: number): AsyncGenerator<Uint8Array> {
    if (to > this.size) throw new Error(`The octets end before ${to}.`);
    if (this.octets) yield this.octets.subarray(from, to);
    if (!this.file) return;
    for (let at = from; at < to; ) {
      const length = Math.min(CHUNK, to - at);
      const { bytesRead, buffer } = await this.file.read(Buffer.allocUnsafe(length), 0, length, at);
      if (bytesRead === 0) throw new Error(`The file ends before octet ${to}.`);
      yield buffer.subarray(0, bytesRead);
      at += bytesRead;
    }
  }

  async close(): Promise<void> {
    this.octets = undefined;
    await this.file?.close();
  }
}

/** A file without a name, to be written and read: nothing of it is left once it is closed, however that comes. @throws DiskFull */
export async function nameless(folder: string): Promise<FileHandle> {
  await makeFolder(folder);
  const path = join(folder, randomUUID());
  const file = await orDiskFull(() => open(path, 'wx+', 0o600));
  await unlink(path);
  return file;
}
