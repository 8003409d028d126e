import type { Ranges } from '../../core/sets/ranges';
import { MailProblem } from '../../mail/problem';
import type { FlagsRecord, MailServer, OpenFolder } from '../../mail/server';
import type { Account } from '../../store/access/accounts';
import type { Database } from '../../store/database';
import { folderById, generationById, type StoredFolder } from '../../store/index/folders';
import type { LeftReason } from '../../store/runs/runs';
import type { FolderSync } from '../sync/folder-sync';
import type { Destinations } from './destinations';

/** The folders of a run on one connection: which is open. */
export class Folders {
  private last: { generation: number; serverName: string; readOnly: boolean } | undefined;
  private opening: { generation: number; reason: Promise<LeftReason | undefined> } | undefined;

  constructor(
    private readonly database: Database,
    private readonly account: Account,
    private readonly server: MailServer,
    private readonly sync: FolderSync,
    private readonly destinations: Destinations,
  ) {}

  /** What is selected; whoever else uses the connection may have selected another folder meanwhile. */
  private get opened(): { generation: number; readOnly: boolean } | undefined {
    return this.last && this.server.opened === this.last.serverName ? this.last : undefined;
  }

  /**
   * Selects the folder of a generation unless it is selected; says why it can't be used.
   *
   * @param anew selects it even where it is selected, since it may be gone since.
   */
  async open(generation: number, anew = false): Promise<LeftReason | undefined> {
    if (this.opened?.generation === generation && !anew) return this.opened.readOnly ? 'read-only' : undefined;
    // Several may wait for the same folder.
    if (this.opening?.generation === generation) return this.opening.reason;
    const reason = this.openBy(generation, (serverName) => this.server.open(serverName));
    this.opening = { generation, reason };
    try {
      return await reason;
    } finally {
      this.opening = undefined;
    }
  }

  private async openBy(
    generation: number,
    open: (serverName: string) => Promise<OpenFolder>,
  ): Promise<LeftReason | undefined> {
    this.last = undefined;
    const stored = await generationById(this.database, this.account.id, generation);
    const folder = (await folderById(this.database, this.account.id, stored.folder)) as StoredFolder;
    let found: OpenFolder;
    try {
      found = await open(folder.serverName);
    } catch (error) {
      if (error instanceof MailProblem && error.kind === 'folder-gone') return 'folder-gone';
      throw error;
    }
    if (found.uidValidity !== stored.uidValidity) return 'changed';
    this.last = { generation, serverName: folder.serverName, readOnly: found.readOnly };
    return found.readOnly ? 'read-only' : undefined;
  }

  /** The flags that messages of a generation bear now, each as the server says of it, or why its folder can't be used. */
  async flags(generation: number, uids: Ranges): Promise<{ reason: LeftReason | undefined; flags: FlagsRecord[] }> {
    const flags: FlagsRecord[] = [];
    if (this.opened?.generation === generation) {
      for await (const read of this.server.flags(uids)) for (const record of read) flags.push(record);
      return { reason: this.opened.readOnly ? 'read-only' : undefined, flags };
    }
    const reason = await this.openBy(generation, async (serverName) => {
      const looked = await this.server.openAndReadFlags(serverName, uids);
      for (const record of looked.flags) flags.push(record);
      return looked.open;
    });
    return { reason, flags };
  }

  /** Reads a folder whose UIDVALIDITY changed, so that its messages are known again; gives its generation. */
  async follow(generation: number): Promise<number | undefined> {
    const stored = await generationById(this.database, this.account.id, generation);
    this.last = undefined;
    this.destinations.forget(stored.folder);
    const folder = (await folderById(this.database, this.account.id, stored.folder)) as StoredFolder;
    return (await this.sync.sync(folder))?.id;
  }
}
