import { MailProblem } from '../../mail/problem';
import type { ListedFolder, MailServer } from '../../mail/server';
import type { Account } from '../../store/access/accounts';
import type { Database } from '../../store/database';
import { folderById, foldersOf, generationsFor, type StoredFolder, saveListing } from '../../store/index/folders';
import type { Fence } from '../fence';
import { assertGone } from '../sync/folder-listing';

/** A folder into which messages are brought. */
export interface Destination {
  folder: StoredFolder;
  generation: number;
  uidValidity: number;
  /** What is brought from now on has a UID from here on. */
  uidNext: number;
}

/** Where the messages of a run go. The server is asked once for all of its folders, and again when one was not what it was. */
export class Destinations {
  private readonly known = new Map<number, Destination>();
  private listed: Map<string, ListedFolder> | undefined;

  /** @param mayMake whether a folder that is gone is made again: only a trash folder is never made without asking. */
  constructor(
    private readonly database: Database,
    private readonly account: Account,
    private readonly server: MailServer,
    private readonly fenced: Fence,
    private readonly mayMake: boolean,
  ) {}

  /** The folder with this number. */
  async get(id: number): Promise<Destination> {
    const known = this.known.get(id);
    if (known) return known;
    const destination = await this.find(id);
    this.known.set(id, destination);
    return destination;
  }

  private async find(id: number): Promise<Destination> {
    const wanted = (await folderById(this.database, this.account.id, id)) as StoredFolder;
    let listed = await this.list();
    if (!listed.has(wanted.serverName)) listed = await this.make(wanted);
    const status = listed.get(wanted.serverName)?.status;
    if (!status) throw new MailProblem('folder-gone', `The folder ${wanted.path} can’t be used.`);
    // Only SELECT has the next UID told by servers that leave it out of STATUS.
    const uidNext = status.uidNext ?? (await this.server.open(wanted.serverName)).uidNext;
    const folder = await this.stored(wanted);
    const generation = await this.fenced(async (client) => {
      const [found] = await generationsFor(client, this.account.id, [
        { folder: folder.id, uidValidity: status.uidValidity },
      ]);
      return found as { id: number };
    });
    return { folder, generation: generation.id, uidValidity: status.uidValidity, uidNext };
  }

  /** A folder that was made again has another number than the one that went. */
  private async stored(wanted: StoredFolder): Promise<StoredFolder> {
    const now = await foldersOf(this.database, this.account.id);
    return now.find(({ serverName }) => serverName === wanted.serverName) ?? wanted;
  }

  private async list(): Promise<Map<string, ListedFolder>> {
    this.listed ??= new Map((await this.server.folders()).map((folder) => [folder.serverName, folder]));
    return this.listed;
  }

  private async make(wanted: StoredFolder): Promise<Map<string, ListedFolder>> {
    if (!this.mayMake)
      throw new MailProblem(
        'folder-gone',
        `The folder ${wanted.path} no longer exists. Create it again or choose another in the settings, then resume.`,
      );
    await this.server.createFolder(wanted.serverName);
    this.listed = undefined;
    const listed = await this.list();
    await assertGone(this.database, this.account.id, this.server, [...listed.values()]);
    await this.fenced((client) => saveListing(client, this.account.id, [...listed.values()]));
    return listed;
  }

  /** Notes up to where a destination is known, so that what comes next is looked for behind it. */
  broughtUpTo(destination: Destination, uid: number): void {
    destination.uidNext = Math.max(destination.uidNext, uid + 1);
  }

  /** Forgets what is known of a folder: it is not what it was. */
  forget(folder: number): void {
    this.known.delete(folder);
    this.listed = undefined;
  }
}
