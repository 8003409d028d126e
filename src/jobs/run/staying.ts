import { includes, rangesOf } from '../../core/sets/ranges';
import type { Account } from '../../store/access/accounts';
import type { Database } from '../../store/database';
import { PROMISES_OF_FILES } from '../../store/plan/promises';
import {
  alikePictures,
  notTaken,
  type PromisedFile,
  promisedFiles,
  promisedMembers,
  promisesOf,
  type StayingCopy,
  type StayingFile,
  sameFiles,
  stayingCopies,
} from '../../store/plan/staying';
import { type Promised, takenAmong } from '../../store/plan/taken';
import type { SpaceCopy } from '../../store/space/doubled';
import type { WorkContext } from '../context';
import type { Lane } from './lanes';
import { SpaceCopies } from './space-copies';

/** A file that is taken out, and what stays for it: one in a message, or one in a file space. */
export type StayingForFile = PromisedFile & ({ staying: StayingFile } | { inSpace: SpaceCopy });

/** Messages that are looked for in place of one. Where none of them is there, what relies on them is left: that is safe in any case. */
const MOST_LOOKED_FOR = 8;

/** What stays while a run takes others: the index is asked once for what stays for each message, the server before each batch. */
export class Staying {
  private readonly known = new Map<string, StayingCopy[]>();
  private readonly knownFiles = new Map<string, StayingFile[]>();
  private promises: ReadonlySet<Promised> | undefined;
  private readonly database: Database;
  private readonly spaces: SpaceCopies;

  constructor(
    context: WorkContext,
    private readonly account: Account,
    private readonly run: number,
  ) {
    this.database = context.database;
    this.spaces = new SpaceCopies(context, account);
  }

  close(): void {
    this.spaces.close();
  }

  /**
   * Which of some members would be the last copy of their message, or are quoted by nothing any more, of those that lots gave the run which
   * promised that another stays: one has to be on the server now, outside the trash, and neither the plan nor a run may take it.
   */
  async lastAmong(ids: readonly number[], lane: Lane): Promise<number[]> {
    const { database, account, run } = this;
    const promises = await this.promised();
    if (!promises.has('twins') && !promises.has('echoes')) return [];
    const members = await promisedMembers(database, account.id, run, ids);
    const open = new Set(members.map(({ key }) => key));
    await this.learn([...open].filter((key) => !this.known.has(key)));
    const candidates = [...open].flatMap((key) => this.known.get(key) ?? []);
    // What was free may have been marked since.
    const taken = await takenAmong(
      database,
      account.id,
      candidates.map(({ id }) => id),
    );
    let left = candidates.filter(({ id }) => !includes(taken, id));
    while (open.size > 0 && left.length > 0) left = await lookFor(left, open, lane);
    return members.filter(({ key }) => open.has(key)).map(({ id }) => id);
  }

  /** Of files that are to be taken out those for which another one stays now, on the server outside the trash or in a file space, and that one. */
  async forFiles(
    files: readonly number[],
    lane: Pick<Lane, 'folders' | 'server'>,
  ): Promise<Map<number, StayingForFile>> {
    const { database, account, run } = this;
    await this.promised();
    const found = new Map<number, StayingForFile>();
    if (!this.promisesFiles) return found;
    const going = await promisedFiles(database, account.id, run, files);
    const same = new Set(going.flatMap((one) => (one.promise === 'files' ? [keyOf(one)] : [])));
    await this.learnFiles([...same].filter((key) => !this.knownFiles.has(key)));
    const pictures = going.flatMap(({ file, promise }) => (promise === 'pictures' ? [file] : []));
    const candidates = [
      // What was free may have been marked since.
      ...(await notTaken(
        database,
        account.id,
        [...same].flatMap((key) => this.knownFiles.get(key) ?? []),
      )),
      ...(pictures.length > 0 ? await alikePictures(database, account, pictures) : []),
    ];
    const open = new Set(candidates.map(({ key }) => key));
    const there = new Map<string, StayingFile>();
    let left: StayingFile[] = candidates;
    while (open.size > 0 && left.length > 0) left = await lookFor(left, open, lane, (one) => there.set(one.key, one));
    const inSpaces = await this.spaces.thereNow([
      ...new Set(going.flatMap(({ promise, sha256 }) => (promise === 'spaces' ? [sha256] : []))),
    ]);
    for (const one of going) {
      const [staying, inSpace] = [there.get(keyOf(one)), inSpaces.get(one.sha256)];
      if (one.promise === 'spaces' && inSpace) found.set(one.file, { ...one, inSpace });
      else if (one.promise !== 'spaces' && staying) found.set(one.file, { ...one, staying });
    }
    return found;
  }

  /** The same file may lie in very many messages: what can stay for it is looked up once, and not for each. */
  private async learnFiles(keys: readonly string[]): Promise<void> {
    for (const key of keys) this.knownFiles.set(key, []);
    if (keys.length === 0) return;
    const digests = keys.map((key) => key.slice(1));
    for (const one of await sameFiles(this.database, this.account, digests)) {
      const copies = this.knownFiles.get(one.key);
      if (copies && copies.length < MOST_LOOKED_FOR) copies.push(one);
    }
  }

  /** Whether lots that gave the run files promised that another one stays; known once files were asked for. */
  get promisesFiles(): boolean {
    return PROMISES_OF_FILES.some((promise) => this.promises?.has(promise));
  }

  private async promised(): Promise<ReadonlySet<Promised>> {
    this.promises ??= await promisesOf(this.database, this.account.id, this.run);
    return this.promises;
  }

  private async learn(keys: readonly string[]): Promise<void> {
    for (const key of keys) this.known.set(key, []);
    if (keys.length === 0) return;
    for (const copy of await stayingCopies(this.database, this.account, keys)) {
      const copies = this.known.get(copy.key);
      if (copies && copies.length < MOST_LOOKED_FOR) copies.push(copy);
    }
  }
}

/** The key of what stays for a file. */
function keyOf({ file, promise, sha256 }: PromisedFile): string {
  return promise === 'files' ? `s${sha256}` : `a${file}`;
}

/** Looks on the server for one message of each key; takes out of `open` what was found, and gives those to look for next. */
async function lookFor<T extends StayingCopy>(
  copies: readonly T[],
  open: Set<string>,
  { folders, server }: Pick<Lane, 'folders' | 'server'>,
  foundOne: (copy: T) => void = () => undefined,
): Promise<T[]> {
  const looked = new Set<string>();
  const later: T[] = [];
  const byGeneration = new Map<number, T[]>();
  for (const copy of copies) {
    if (!open.has(copy.key)) continue;
    if (looked.has(copy.key)) {
      later.push(copy);
      continue;
    }
    looked.add(copy.key);
    const together = byGeneration.get(copy.generation) ?? [];
    together.push(copy);
    byGeneration.set(copy.generation, together);
  }
  for (const [generation, wanted] of byGeneration) {
    const reason = await folders.open(generation);
    if (reason !== undefined && reason !== 'read-only') continue;
    const there = await server.uids(rangesOf(wanted.map(({ uid }) => uid)));
    for (const copy of wanted) {
      if (!includes(there, copy.uid)) continue;
      open.delete(copy.key);
      foundOne(copy);
    }
  }
  return later;
}
