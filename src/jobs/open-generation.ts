import { MailProblem } from '../mail/problem';
import type { MailServer } from '../mail/server';
import type { Database } from '../store/database';
import { folderById, generationById } from '../store/index/folders';

/** Opens folders by their generation, over any of several connections. */
export class GenerationOpener {
  /** Of each connection the generation whose folder it opened last, and which had its UIDVALIDITY. */
  private readonly opened = new WeakMap<MailServer, number>();

  constructor(
    private readonly database: Database,
    private readonly account: number,
  ) {}

  /** Whether the folder of a generation is there, and has that UIDVALIDITY; it is open then. */
  async isThere(server: MailServer, generation: number): Promise<boolean> {
    const { folder, uidValidity } = await generationById(this.database, this.account, generation);
    const stored = await folderById(this.database, this.account, folder);
    if (!stored) return false;
    // Some servers go through all of a folder to open it.
    const isOpen = server.opened === stored.serverName && this.opened.get(server) === generation;
    this.opened.delete(server);
    try {
      if (!isOpen && (await server.open(stored.serverName)).uidValidity !== uidValidity) return false;
    } catch (error) {
      if (error instanceof MailProblem && error.kind === 'folder-gone') return false;
      throw error;
    }
    this.opened.set(server, generation);
    return true;
  }
}
