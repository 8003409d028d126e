import { closeSync, existsSync, mkdirSync, openSync, readFileSync, rmSync, writeFileSync, writeSync } from 'node:fs';
import { join } from 'node:path';
import type { Ranges } from '../../src/core/sets/ranges';

/** One change of the mailbox. Several in one entry happen together or not at all. */
export type Change =
  | {
      op: 'add';
      folder: string;
      placed: { uid: number; ref: string; received: number; saved?: number; flags: string[] }[];
    }
  | { op: 'remove'; folder: string; uids: Ranges }
  | { op: 'flags'; folder: string; uids: Ranges; flags: string[] }
  | { op: 'create'; folder: string; uidValidity: number; use?: string }
  | { op: 'delete'; folder: string }
  | { op: 'rename'; folder: string; to: string }
  | { op: 'validity'; folder: string; uidValidity: number };

/** Changes since the scenario, one entry a line, so that a restart finds the mailbox as it was left. */
export class Journal {
  private file: number | undefined;

  /** @param directory undefined keeps nothing, for tests. */
  constructor(private readonly directory: string | undefined) {
    if (!directory) return;
    mkdirSync(join(directory, 'appended'), { recursive: true });
  }

  /** All entries so far; a last line that was cut short by a crash never happened. */
  read(): Change[][] {
    const path = this.path();
    if (!path || !existsSync(path)) return [];
    const text = readFileSync(path, 'utf8');
    return text
      .slice(0, text.lastIndexOf('\n') + 1)
      .split('\n')
      .filter(Boolean)
      .map((line) => JSON.parse(line) as Change[]);
  }

  write(changes: Change[]): void {
    const path = this.path();
    if (!path) return;
    this.file ??= openSync(path, 'a', 0o600);
    writeSync(this.file, `${JSON.stringify(changes)}\n`);
  }

  saveAppended(ref: string, octets: Buffer): void {
    if (this.directory) writeFileSync(join(this.directory, 'appended', ref), octets, { mode: 0o600 });
  }

  readAppended(ref: string): Buffer {
    return readFileSync(join(this.directory ?? '', 'appended', ref));
  }

  close(): void {
    if (this.file !== undefined) closeSync(this.file);
    this.file = undefined;
  }

  static forget(directory: string): void {
    rmSync(directory, { recursive: true, force: true });
  }

  private path(): string | undefined {
    return this.directory ? join(this.directory, 'journal.jsonl') : undefined;
  }
}
