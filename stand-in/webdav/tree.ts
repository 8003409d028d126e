import { closeSync, existsSync, mkdirSync, openSync, readFileSync, writeFileSync, writeSync } from 'node:fs';
import { join } from 'node:path';
import { collectionOf } from '../../src/core/space/path';

/** The octets of a file, made when they are asked for. */
export interface Content {
  size: number;
  octets(): Buffer;
}

export interface SpaceFile extends Content {
  type: string;
  /** Seconds since the epoch. */
  modified: number;
  /** Counts up with every change anywhere: the tag of this state of the file. */
  version: number;
}

/** A file of the scenario: its path below the uppermost folder, without a slash before it. */
export interface ScenarioFile extends Content {
  path: string;
  type: string;
  modified: number;
}

/** A folder whose files are somebody else's, and don't count. */
export interface Shared {
  path: string;
  owner: string;
}

type Change =
  | { op: 'put'; path: string; type: string; modified: number; ref: string; size: number }
  | { op: 'grow'; path: string; modified: number; size: number }
  | { op: 'folder'; path: string }
  | { op: 'remove'; path: string }
  | { op: 'copy' | 'move'; from: string; to: string };

export const ROOT = '/files/';

/** The files of a file space, by their paths as core/space/path.ts spells them. Folders end in a slash. */
export class FileTree {
  readonly files = new Map<string, SpaceFile>();
  readonly folders = new Set<string>([ROOT]);
  /** Members of each folder. */
  private readonly members = new Map<string, Set<string>>([[ROOT, new Set()]]);
  /** Every path that changed, and with which version. */
  private readonly log: { version: number; path: string }[] = [];
  private journal: number | undefined;
  private uploads = 0;
  version = 0;
  /** Octets of all files that count. */
  bytes = 0;

  /** @param directory where changes are kept; undefined keeps nothing. */
  constructor(
    scenario: readonly ScenarioFile[],
    private readonly shared: readonly Shared[],
    private readonly directory: string | undefined,
  ) {
    for (const { path, ...file } of scenario) this.place(`${ROOT}${path}`, { ...file, version: 0 });
    if (!directory) return;
    mkdirSync(join(directory, 'put'), { recursive: true });
    const kept = join(directory, 'files.jsonl');
    if (!existsSync(kept)) return;
    const text = readFileSync(kept, 'utf8');
    for (const line of text.slice(0, text.lastIndexOf('\n') + 1).split('\n'))
      if (line !== '') this.apply(JSON.parse(line) as Change);
  }

  membersOf(folder: string): ReadonlySet<string> {
    return this.members.get(folder) ?? new Set();
  }

  /** Whose a path is; undefined where it is the user's own. */
  ownerOf(path: string): string | undefined {
    return this.shared.find((each) => path.startsWith(`${ROOT}${each.path}`))?.owner;
  }

  put(path: string, octets: Buffer, type: string): void {
    const ref = `${Date.now()}-${this.uploads++}`;
    if (this.directory) writeFileSync(join(this.directory, 'put', ref), octets, { mode: 0o600 });
    this.uploaded.set(ref, octets);
    const modified = Math.floor(Date.now() / 1000);
    this.commit({ op: 'put', path, type, modified, ref, size: octets.length });
  }

  /** Adds a file of so many octets that nobody needs. */
  grow(path: string, size: number, modified: number): void {
    this.commit({ op: 'grow', path, size, modified });
  }

  makeFolder(path: string): void {
    this.commit({ op: 'folder', path });
  }

  remove(path: string): void {
    this.commit({ op: 'remove', path });
  }

  /** Copies a file, with its date. */
  copy(from: string, to: string): void {
    this.commit({ op: 'copy', from, to });
  }

  move(from: string, to: string): void {
    this.commit({ op: 'move', from, to });
  }

  /** The paths that changed since a version, each once; undefined where there was no such version. */
  changedSince(version: number): string[] | undefined {
    if (!Number.isInteger(version) || version < 0 || version > this.version) return undefined;
    return [...new Set(this.log.filter((entry) => entry.version > version).map(({ path }) => path))];
  }

  close(): void {
    if (this.journal !== undefined) closeSync(this.journal);
    this.journal = undefined;
  }

  private readonly uploaded = new Map<string, Buffer>();

  private commit(change: Change): void {
    this.apply(change);
    if (!this.directory) return;
    this.journal ??= openSync(join(this.directory, 'files.jsonl'), 'a', 0o600);
    writeSync(this.journal, `${JSON.stringify(change)}\n`);
  }

  private apply(change: Change): void {
    this.version++;
    switch (change.op) {
      case 'put': {
        const { path, type, modified, ref, size } = change;
        const { directory, uploaded } = this;
        const octets = () => uploaded.get(ref) ?? readFileSync(join(directory ?? '', 'put', ref));
        this.place(path, { size, octets, type, modified, version: this.version });
        break;
      }
      case 'grow': {
        const { path, modified, size } = change;
        const octets = () => Buffer.alloc(size);
        this.place(path, { size, octets, type: 'application/octet-stream', modified, version: this.version });
        break;
      }
      case 'copy': {
        const file = this.files.get(change.from);
        if (file) this.place(change.to, { ...file, version: this.version });
        break;
      }
      case 'folder':
        this.addFolder(change.path);
        break;
      case 'remove':
        this.take(change.path);
        break;
      case 'move': {
        const { from, to } = change;
        const file = this.files.get(from);
        const moved = file
          ? [[from, file] as const]
          : [...this.files].filter(([path]) => from.endsWith('/') && path.startsWith(from));
        const folders = file ? [] : [...this.folders].filter((path) => from.endsWith('/') && path.startsWith(from));
        this.take(from);
        for (const path of folders) this.addFolder(to + path.slice(from.length));
        for (const [path, file] of moved) this.place(to + path.slice(from.length), { ...file, version: this.version });
      }
    }
  }

  private place(path: string, file: SpaceFile): void {
    this.addFolder(collectionOf(path) as string);
    const before = this.files.get(path);
    if (this.ownerOf(path) === undefined) this.bytes += file.size - (before?.size ?? 0);
    this.files.set(path, file);
    this.members.get(collectionOf(path) as string)?.add(path);
    this.note(path);
  }

  private addFolder(path: string): void {
    if (this.folders.has(path)) return;
    const above = collectionOf(path) as string;
    this.addFolder(above);
    this.folders.add(path);
    this.members.set(path, new Set());
    this.members.get(above)?.add(path);
    this.note(path);
  }

  private take(path: string): void {
    if (path.endsWith('/')) {
      for (const member of [...this.membersOf(path)]) this.take(member);
      this.folders.delete(path);
      this.members.delete(path);
    } else {
      const file = this.files.get(path);
      if (file && this.ownerOf(path) === undefined) this.bytes -= file.size;
      this.files.delete(path);
    }
    this.members.get(collectionOf(path) as string)?.delete(path);
    this.note(path);
  }

  private note(path: string): void {
    if (this.version > 0) this.log.push({ version: this.version, path });
  }
}
