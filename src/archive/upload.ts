import { constants } from 'node:fs';
import { type FileHandle, open } from 'node:fs/promises';
import { dirname } from 'node:path';
import { flushFolder, isThere, makeFolder, orDiskFull, removeTree } from './disk';

/** A file that comes in piece by piece, however long that takes. What was noted of it counts; what lies behind that is written again. */
export class Upload {
  constructor(private readonly path: string) {}

  /** Writes a piece where it belongs, and has the disk keep it. @throws DiskFull */
  async write(at: number, octets: Uint8Array): Promise<void> {
    const isNew = !(await isThere(this.path));
    await makeFolder(dirname(this.path));
    const { O_RDWR, O_CREAT, O_NOFOLLOW } = constants;
    const file = await orDiskFull(() => open(this.path, O_RDWR | O_CREAT | O_NOFOLLOW, 0o600));
    try {
      await orDiskFull(async () => {
        for (let done = 0; done < octets.length; )
          done += (await file.write(octets, done, octets.length - done, at + done)).bytesWritten;
        await file.truncate(at + octets.length);
        await file.datasync();
      });
    } finally {
      await file.close();
    }
    if (isNew) await flushFolder(dirname(this.path));
  }

  /** Opens it to be read; undefined where it is not there. */
  async open(): Promise<{ file: FileHandle; size: number } | undefined> {
    const { O_RDONLY, O_NOFOLLOW } = constants;
    const file = await open(this.path, O_RDONLY | O_NOFOLLOW).catch(() => undefined);
    return file && { file, size: (await file.stat()).size };
  }

  async erase(): Promise<void> {
    await removeTree(this.path);
  }
}
