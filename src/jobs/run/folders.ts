import type { Ranges } from '../../core/sets/ranges';
import { MailProblem } from '../../mail/problem';
import type { MailServer } from '../../mail/server';
import type { Account } from '../../store/accounts';
import type { Database, Queryable } from '../../store/database';
import {
  folderById,
  foldersOf,
  generationById,
  generationFor,
  type StoredFolder,
  saveListing,
} from '../../store/folders';
import type { LeftReason } from '../../store/runs';
import type { FolderSync } from '../scan/folder';

/** A folder into which messages are brought. */
export interface Destination {
  folder: StoredFolder;
  generation: number;
  uidValidity: number;
  /** What is brought from now on has a UID from here on. */
  uidNext: number;
}

/** The folders of a run on the server: which is open, and where things go. */
export class Folders {
  private opened: { generation: number; readOnly: boolean } | undefined;
  private readonly destinations = new Map<number, Destination>();

  constructor(
    private readonly database: Database,
    private readonly account: Account,
    private readonly server: MailServer,
    private readonly sync: FolderSync,
    private readonly fenced: <T>(act: (client: Queryable) => Promise<T>) => Promise<T>,
  ) {}

  /**
   * Selects the folder of a generation unless it is selected; says why it can't be used.
   *
   * @param anew selects it even where it is selected, since it may be gone since.
   */
  async open(generation: number, anew = false): Promise<LeftReason | undefined> {
    if (this.opened?.generation === generation && !anew) return this.opened.readOnly ? 'read-only' : undefined;
    this.opened = undefined;
    const stored = await generationById(this.database, this.account.id, generation);
    const folder = (await folderById(this.database, this.account.id, stored.folder)) as StoredFolder;
    let open: Awaited<ReturnType<MailServer['open']>>;
    try {
      open = await this.server.open(folder.serverName);
    } catch (error) {
      if (error instanceof MailProblem && error.kind === 'folder-gone') return 'folder-gone';
      throw error;
    }
    if (open.uidValidity !== stored.uidValidity) return 'changed';
    this.opened = { generation, readOnly: open.readOnly };
    return open.readOnly ? 'read-only' : undefined;
  }

  /** Has the index know the flags that these messages bear now, where their folder can be read. */
  async refreshFlags(generation: number, uids: Ranges): Promise<void> {
    const reason = await this.open(generation);
    if (!this.opened || (reason !== undefined && reason !== 'read-only')) return;
    await this.sync.syncSystemFlags(generation, uids);
  }

  /** Reads a folder whose UIDVALIDITY changed, so that its messages are known again; gives its generation. */
  async follow(generation: number): Promise<number | undefined> {
    const stored = await generationById(this.database, this.account.id, generation);
    this.opened = undefined;
    this.destinations.delete(stored.folder);
    const folder = (await folderById(this.database, this.account.id, stored.folder)) as StoredFolder;
    return (await this.sync.sync(folder))?.id;
  }

  /** The destination with this number, made again where it is gone: only a trash folder is never made without asking. */
  async destination(id: number, mayMake: boolean): Promise<Destination> {
    const known = this.destinations.get(id);
    if (known) return known;
    const wanted = (await folderById(this.database, this.account.id, id)) as StoredFolder;
    const listedNow = async () => {
      const listed = await this.server.folders();
      return { listed, entry: listed.find(({ serverName }) => serverName === wanted.serverName) };
    };
    let { listed, entry } = await listedNow();
    if (!entry) {
      if (!mayMake)
        throw new MailProblem(
          'folder-gone',
          `The folder ${wanted.path} is not there any more. Make it again or name another in the settings, then go on.`,
        );
      await this.server.createFolder(wanted.serverName);
      ({ listed, entry } = await listedNow());
      await this.fenced((client) => saveListing(client, this.account.id, listed));
    }
    if (!entry?.status) throw new MailProblem('folder-gone', `The folder ${wanted.path} can’t be used.`);
    const { uidValidity, uidNext } = entry.status;
    const folder =
      (await foldersOf(this.database, this.account.id)).find(({ serverName }) => serverName === wanted.serverName) ??
      wanted;
    const generation = await this.fenced((client) => generationFor(client, this.account.id, folder.id, uidValidity));
    const destination = { folder, generation: generation.id, uidValidity, uidNext };
    this.destinations.set(id, destination);
    return destination;
  }

  /** Notes up to where a destination is known, so that what comes next is looked for behind it. */
  broughtUpTo(destination: Destination, uid: number): void {
    destination.uidNext = Math.max(destination.uidNext, uid + 1);
  }

  /** Forgets what is known of a destination: it is not what it was. */
  forget(folder: number): void {
    this.destinations.delete(folder);
  }
}
