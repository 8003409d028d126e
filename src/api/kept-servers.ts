import { type SignInContext, signInTo } from '../jobs/sign-in';
import { MailProblem, type MailProblemKind } from '../mail/problem';
import type { MailServer } from '../mail/server';
import type { Account } from '../store/access/accounts';
import { asProblem } from './on-server';
import { conflict, Problem } from './problem';

/** Milliseconds for which a connection is kept that nobody uses, and for which it is used at all. */
const IDLE_MS = 10_000;
const OLDEST_MS = 5 * 60_000;
/** Requests that may wait for one account. */
const MOST_WAITING = 200;
/** Connections that are kept for all accounts together. */
const MOST_KEPT = 100;

/** Answers after which a connection is as good as before. */
const HARMLESS = new Set<MailProblemKind>(['message-gone', 'command-refused', 'folder-gone']);

/** A folder of the mail server, as the index knows it. */
export interface KnownFolder {
  serverName: string;
  uidValidity: number;
}

const isHarmless = (error: unknown) =>
  error instanceof Problem || (error instanceof MailProblem && HARMLESS.has(error.kind));

interface Line {
  server: MailServer | undefined;
  /** The folder that is open. */
  folder: KnownFolder | undefined;
  since: number;
  /** What was asked last; the next waits for it. */
  last: Promise<unknown>;
  waiting: number;
  idle: NodeJS.Timeout | undefined;
}

/**
 * One connection an account for requests that come in numbers, such as those of pictures on a screen. It answers one after the
 * other, and is closed soon after the last.
 */
export class KeptServers {
  private readonly lines = new Map<number, Line>();

  /**
   * Asks the account's mail server something of a folder, behind what others ask of it.
   *
   * @param signal of who asks; when it is aborted before its turn nothing is asked.
   * @throws Problem
   */
  async ask<T>(
    context: SignInContext,
    account: Account,
    folder: KnownFolder,
    signal: AbortSignal,
    ask: (server: MailServer) => Promise<T>,
  ): Promise<T> {
    const line = this.lineOf(account.id);
    if (line.waiting >= MOST_WAITING) throw busy();
    line.waiting++;
    clearTimeout(line.idle);
    const turn = line.last.then(() => this.answer(context, account, folder, signal, line, ask));
    line.last = turn.catch(() => undefined);
    try {
      return await turn;
    } finally {
      line.waiting--;
      if (line.waiting === 0) line.idle = setTimeout(() => this.end(account.id, line), IDLE_MS).unref();
    }
  }

  private lineOf(account: number): Line {
    const known = this.lines.get(account);
    if (known) return known;
    if (this.lines.size >= MOST_KEPT) throw busy();
    const line: Line = {
      server: undefined,
      folder: undefined,
      since: 0,
      last: Promise.resolve(),
      waiting: 0,
      idle: undefined,
    };
    this.lines.set(account, line);
    return line;
  }

  private async answer<T>(
    context: SignInContext,
    account: Account,
    folder: KnownFolder,
    signal: AbortSignal,
    line: Line,
    ask: (server: MailServer) => Promise<T>,
  ): Promise<T> {
    // Nobody reads what this throws.
    signal.throwIfAborted();
    try {
      if (Date.now() - line.since > OLDEST_MS) await drop(line);
      if (!line.server) {
        line.server = await signInTo(context, account);
        line.since = Date.now();
      }
      await open(line, line.server, folder);
      return await ask(line.server);
    } catch (error) {
      if (!isHarmless(error)) await drop(line);
      throw asProblem(error, 'The mail server did not return the file');
    }
  }

  private end(account: number, line: Line): void {
    if (this.lines.get(account) === line) this.lines.delete(account);
    void drop(line);
  }
}

/** @throws Problem where the folder is not the one that the index knows. */
async function open(line: Line, server: MailServer, { serverName, uidValidity }: KnownFolder): Promise<void> {
  if (line.folder?.serverName !== serverName || line.folder.uidValidity !== uidValidity) {
    line.folder = undefined;
    line.folder = { serverName, uidValidity: (await server.open(serverName)).uidValidity };
  }
  if (line.folder.uidValidity !== uidValidity)
    throw conflict('changed', 'The folder has changed on the server. Scan again.');
}

async function drop(line: Line): Promise<void> {
  const { server } = line;
  line.server = undefined;
  line.folder = undefined;
  await server?.close().catch(() => undefined);
}

const busy = () =>
  new Problem(503, 'busy', 'Busy', 'Too much is asked of this mailbox at once. Try again soon.', undefined, {
    'retry-after': '5',
  });
