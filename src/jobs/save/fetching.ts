import { MailProblem } from '../../mail/problem';
import { bySection } from '../../mail/sections';
import type { MailServer, Wanted } from '../../mail/server';
import { withThrottleRetry } from '../../mail/throttle-retry';
import type { PendingFile, UnsavedReason } from '../../store/archive/bags';
import type { Database } from '../../store/database';
import { GenerationOpener } from '../open-generation';
import { HelperLost, ReadAhead, type ShareOf, sharesOf } from './read-ahead';

/** Files that one connection is asked for at a time. */
const SHARE_FILES = 256;
/** Shares from which on more connections than one are worth signing in for. */
const MANY_SHARES = 4;

/** Whoever takes files in. */
export interface Taker {
  /** Before each file. Throws where the work is to stop. */
  heed(): Promise<void>;
  /** Takes a file in. Throws what its octets throw. */
  take(file: PendingFile, octets: AsyncIterable<Buffer>): Promise<void>;
  leave(file: PendingFile, reason: UnsavedReason): Promise<void>;
}

/** Fetches files and whole messages from the mail server over several connections, and hands them on in their order. */
export class Fetching {
  private readonly server: MailServer;
  private readonly ahead: ReadAhead;
  private readonly folders: GenerationOpener;

  /** @param another signs in once more. */
  constructor(
    database: Database,
    account: number,
    server: MailServer,
    another: () => Promise<MailServer>,
    private readonly taker: Taker,
  ) {
    this.server = withThrottleRetry(server, async () => undefined);
    this.folders = new GenerationOpener(database, account);
    this.ahead = new ReadAhead(this.server, another, (one, generation) => this.folders.isThere(one, generation));
  }

  async close(): Promise<void> {
    await this.ahead.close();
  }

  /** Has each file taken in, or left. */
  async fetch(files: readonly PendingFile[]): Promise<void> {
    const shares = sharesOf(files, wantedOf, SHARE_FILES);
    if (shares.length >= MANY_SHARES) this.ahead.grow();
    const again: PendingFile[] = [];
    for await (const { share, isThere, pieces } of this.ahead.each(shares)) {
      const dealt = { files: 0 };
      try {
        if (isThere) await this.takeShare(share, pieces, again, dealt);
        else for (const file of share.items) await this.taker.leave(file, 'vanished');
      } catch (error) {
        if (!(error instanceof HelperLost)) throw error;
        again.push(...share.items.slice(dealt.files));
      }
    }
    for (const file of again) {
      await this.taker.heed();
      if (!(await this.folders.isThere(this.server, file.generation))) await this.taker.leave(file, 'vanished');
      else if ((await this.receive(file, this.server.download(wantedOf(file)))) === 'again') throw throttled();
    }
  }

  private async takeShare(
    share: ShareOf<PendingFile>,
    pieces: ReturnType<MailServer['downloads']>,
    again: PendingFile[],
    dealt: { files: number },
  ): Promise<void> {
    for await (const { of, octets } of bySection(pieces)) {
      await this.taker.heed();
      const file = share.items[of] as PendingFile;
      if ((await this.receive(file, octets)) === 'again') again.push(file);
      dealt.files = of + 1;
    }
  }

  /** Has a file taken in, or left; or says that the server asked for patience. */
  private async receive(file: PendingFile, octets: AsyncIterable<Buffer>): Promise<'again' | undefined> {
    try {
      await this.taker.take(file, octets);
    } catch (error) {
      if (!(error instanceof MailProblem)) throw error;
      if (error.kind === 'throttled') return 'again';
      if (error.kind === 'message-gone') await this.taker.leave(file, 'vanished');
      // The server says no to this one alone; the others are tried.
      else if (error.kind === 'command-refused') await this.taker.leave(file, 'unreadable');
      else throw error;
    }
    return undefined;
  }
}

/** The section of a file; one octet more shows that it is longer than was said. */
function wantedOf({ uid, part, size }: PendingFile): Wanted {
  return { uid, section: part, expected: size, most: size + 1 };
}

function throttled(): MailProblem {
  return new MailProblem('throttled', 'The mail server asks for patience.');
}

/** The octets as they come, counted. */
export async function* counted(octets: AsyncIterable<Buffer>, into: { encoded: number }): AsyncGenerator<Buffer> {
  for await (const piece of octets) {
    into.encoded += piece.length;
    yield piece;
  }
}
