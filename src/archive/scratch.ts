import { randomUUID } from 'node:crypto';
import { type FileHandle, open, unlink } from 'node:fs/promises';
import { join } from 'node:path';
import { makeFolder, orDiskFull } from './disk';

/** Octets that are read at a time. */
const CHUNK = 1024 * 1024;

/** A file for work under way. It has no name any more once it is open, so that nothing of it is left however the work ends. */
export class Scratch {
  private constructor(private readonly file: FileHandle) {}

  static async open(folder: string): Promise<Scratch> {
    await makeFolder(folder);
    const path = join(folder, randomUUID());
    const file = await orDiskFull(() => open(path, 'wx+', 0o600));
    await unlink(path);
    return new Scratch(file);
  }

  /** Writes octets behind those that are there. @throws DiskFull */
  async write(octets: AsyncIterable<Uint8Array>): Promise<void> {
    for await (const piece of octets) await orDiskFull(() => this.file.writeFile(piece));
  }

  /** The octets from one up to but without another. */
  async *read(from: number, to: number): AsyncGenerator<Uint8Array> {
    for (let at = from; at < to; ) {
      const length = Math.min(CHUNK, to - at);
      const { bytesRead, buffer } = await this.file.read(Buffer.allocUnsafe(length), 0, length, at);
      if (bytesRead === 0) throw new Error(`The file ends before octet ${to}.`);
      yield buffer.subarray(0, bytesRead);
      at += bytesRead;
    }
  }

  close(): Promise<void> {
    return this.file.close();
  }
}
