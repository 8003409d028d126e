import { createHash } from 'node:crypto';
import { includes } from '../../core/sets/ranges';
import type { DavClient } from '../../dav/client';
import { isSame, type Resource } from '../../dav/listing';
import { isPassingProblem, SpaceProblem } from '../../dav/problem';
import { download, look } from '../../dav/transfer';
import { MailProblem } from '../../mail/problem';
import type { Account } from '../../store/access/accounts';
import { filesOfSpacesTaken } from '../../store/plan/file-lots';
import { type SpaceCopy, spaceCopies } from '../../store/space/doubled';
import { spaceById } from '../../store/space/spaces';
import type { WorkContext } from '../context';
import { SignInNeeded } from '../sign-in';
import { openSpace } from '../space/sign-in';

/** Files in file spaces that are looked for in place of one. */
const MOST_LOOKED_FOR = 4;

/**
 * Whether file spaces still have what a run takes out of messages. Each file is read anew once in a run, every octet, since a tag may lie;
 * after that it is asked each time whether it is still the one that was read.
 */
export class SpaceCopies {
  private readonly clients = new Map<number, DavClient | undefined>();
  /** What the server said of a file when it was read, by its number. */
  private readonly read = new Map<number, Resource>();

  constructor(
    private readonly context: WorkContext,
    private readonly account: Account,
  ) {}

  /**
   * For each of some digests a file that has these octets now.
   *
   * @throws SpaceProblem or MailProblem that passes: the run goes on later.
   */
  async thereNow(digests: readonly string[]): Promise<Map<string, SpaceCopy>> {
    const found = new Map<string, SpaceCopy>();
    const looked = new Map<string, number>();
    const { database } = this.context;
    const copies = await spaceCopies(database, this.account.id, digests);
    // What the plan, or a run, takes from there does not stay.
    const taken = copies.length === 0 ? [] : await filesOfSpacesTaken(database, this.account.id);
    for (const copy of copies) {
      const { sha256 } = copy;
      if (includes(taken, copy.id)) continue;
      const before = looked.get(sha256) ?? 0;
      if (found.has(sha256) || before >= MOST_LOOKED_FOR) continue;
      looked.set(sha256, before + 1);
      if (await this.isThere(copy)) found.set(sha256, copy);
    }
    return found;
  }

  close(): void {
    for (const client of this.clients.values()) client?.close();
    this.clients.clear();
  }

  private async isThere(copy: SpaceCopy): Promise<boolean> {
    try {
      const client = await this.clientOf(copy.space);
      if (!client) return false;
      const now = await look(client, copy.path);
      if (!now || now.isCollection || now.bytes !== copy.bytes) return false;
      const before = this.read.get(copy.id);
      if (before) return isSame(before, now);
      const hash = createHash('sha256');
      for await (const piece of download(client, copy.path, copy.bytes)) hash.update(piece);
      if (hash.digest('hex') !== copy.sha256) return false;
      // It is what was read only if it was the same before and after.
      const after = await look(client, copy.path);
      if (!after || !isSame(now, after)) return false;
      this.read.set(copy.id, after);
      return true;
    } catch (error) {
      const isRefusal = error instanceof SpaceProblem || error instanceof MailProblem || error instanceof SignInNeeded;
      if (!isRefusal || isPassingProblem(error)) throw error;
      return false;
    }
  }

  private async clientOf(id: number): Promise<DavClient | undefined> {
    if (this.clients.has(id)) return this.clients.get(id);
    const space = await spaceById(this.context.database, this.account.id, id);
    const client = space && (await openSpace(this.context, this.account, space));
    this.clients.set(id, client);
    return client;
  }
}
