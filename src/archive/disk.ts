import { constants } from 'node:fs';
import { chmod, type FileHandle, lstat, mkdir, open, readdir, rename, rm } from 'node:fs/promises';
import { dirname, join } from 'node:path';

/** The disk, or what the operator allows on it, is full. */
export class DiskFull extends Error {}

/** What the system says of a file that is not there, or that the disk does not give. */
export const UNREADABLE: ReadonlySet<string> = new Set(['ENOENT', 'ENOTDIR', 'EIO']);

const FULL = new Set(['ENOSPC', 'EDQUOT', 'EFBIG']);

/** Raises what a full disk throws as DiskFull. */
export async function orDiskFull<T>(act: () => Promise<T>): Promise<T> {
  try {
    return await act();
  } catch (error) {
    if (FULL.has((error as NodeJS.ErrnoException).code ?? ''))
      throw new DiskFull('There is no room left on the disk of this machine.', { cause: error });
    throw error;
  }
}

/** Makes a folder that only this user can read, and those above it. The disk keeps the names of those that were made. */
export async function makeFolder(path: string): Promise<void> {
  const first = await orDiskFull(() => mkdir(path, { recursive: true, mode: 0o700 }));
  if (first === undefined) return;
  for (let made = path; made.length >= first.length; made = dirname(made)) await flushFolder(dirname(made));
}

/** Opens a new file, readable by this user alone. One that is there is emptied; a link is not followed. */
export async function createFile(path: string): Promise<FileHandle> {
  const { O_WRONLY, O_CREAT, O_TRUNC, O_NOFOLLOW } = constants;
  return orDiskFull(() => open(path, O_WRONLY | O_CREAT | O_TRUNC | O_NOFOLLOW, 0o600));
}

/** Has the disk keep what is in a folder: its names, not the contents behind them. */
export async function flushFolder(path: string): Promise<void> {
  const folder = await open(path, 'r');
  try {
    await folder.sync();
  } finally {
    await folder.close();
  }
}

/** Has the disk keep the names of a folder and of all below it. */
export async function flushTree(path: string): Promise<void> {
  for (const entry of await readdir(path, { withFileTypes: true }))
    if (entry.isDirectory()) await flushTree(join(path, entry.name));
  await flushFolder(path);
}

/** The files below a folder, levels parted by `/`. Links are left out. */
export async function* filesBelow(folder: string, within = ''): AsyncGenerator<string> {
  for (const entry of await readdir(join(folder, within), { withFileTypes: true })) {
    const path = within === '' ? entry.name : `${within}/${entry.name}`;
    if (entry.isDirectory()) yield* filesBelow(folder, path);
    else if (entry.isFile()) yield path;
  }
}

/** Writes a file whole, and has the disk keep it. */
export async function writeWhole(path: string, text: string): Promise<void> {
  const file = await createFile(path);
  try {
    await orDiskFull(async () => {
      await file.writeFile(text);
      await file.sync();
    });
  } finally {
    await file.close();
  }
}

/** Gives a folder its final name, and has the disk keep that. */
export async function renameFolder(from: string, to: string): Promise<void> {
  await rename(from, to);
  await flushFolder(dirname(to));
}

/** Takes the permission to write from all files of a folder and from the folders, or gives it back to their owner. */
export async function setWritable(path: string, isWritable: boolean): Promise<void> {
  if (isWritable) await chmod(path, 0o700);
  for (const entry of await readdir(path, { withFileTypes: true })) {
    const below = join(path, entry.name);
    if (entry.isDirectory()) await setWritable(below, isWritable);
    else if (entry.isFile()) await chmod(below, isWritable ? 0o600 : 0o400);
  }
  if (!isWritable) await chmod(path, 0o500);
}

export async function removeTree(path: string): Promise<void> {
  await rm(path, { recursive: true, force: true });
}

export async function isThere(path: string): Promise<boolean> {
  try {
    await lstat(path);
    return true;
  } catch {
    return false;
  }
}
