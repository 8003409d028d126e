import { readFileSync, renameSync, writeFileSync } from 'node:fs';

/** A program that ended by itself, and was started again. */
export interface Restart {
  /** Such as `web` or `worker`. */
  program: string;
  /** RFC 3339. */
  at: string;
  /** A sentence. */
  why: string;
}

/** Writes the restarts of an instance whole, so that whoever reads them finds all of them or those of before. */
export function writeRestarts(path: string, restarts: readonly Restart[]): void {
  writeFileSync(`${path}.new`, JSON.stringify(restarts), { mode: 0o600 });
  renameSync(`${path}.new`, path);
}

/** The restarts of the instance since it was started, the newest last; none where nobody writes them down. */
export function readRestarts(path: string | undefined): Restart[] {
  if (!path) return [];
  try {
    return JSON.parse(readFileSync(path, 'utf8')) as Restart[];
  } catch {
    // Health must answer, whatever became of the file.
    return [];
  }
}
