import { MailProblem } from '../../mail/problem';
import type { MailServer, OpenFolder } from '../../mail/server';

/** Work in one folder. */
export interface FolderTask {
  serverName: string;
}

/** Connections beyond the first: hosts commonly allow ten or more of one user, some fewer. */
const MAX_HELPERS = 2;

/** Times in a row that the first connection is lost and made again with nothing read in between. */
const MAX_LOSSES = 3;

/** A connection and the folder that it has open. */
interface Connection {
  server: MailServer;
  folder: string | undefined;
  open: OpenFolder | undefined;
}

/**
 * Several connections that share work, as many as the host lets in: one that it refuses, or drops, is done without, but for
 * the first, which is made again, so that what was read so far and is kept in memory is not read anew.
 */
export class ConnectionPool {
  private readonly helpers: Connection[] = [];
  private readonly primary: Connection;
  private losses = 0;

  constructor(
    server: MailServer,
    private readonly another: () => Promise<MailServer>,
  ) {
    this.primary = { server, folder: undefined, open: undefined };
  }

  /** Asks something that is not shared. Where the connection is lost meanwhile, it is asked again over another. */
  async ask<T>(question: (server: MailServer) => Promise<T>): Promise<T> {
    for (;;) {
      try {
        return await question(this.primary.server);
      } catch (error) {
        if (!isOfConnection(error)) throw error;
        await this.replacePrimary(error);
      }
    }
  }

  /** Says that something was read, and so that the host can be used. */
  advanced(): void {
    this.losses = 0;
  }

  /** Asks the host for further connections. */
  async grow(): Promise<void> {
    const wanted = Array.from({ length: MAX_HELPERS - this.helpers.length }, () => this.another());
    for (const answer of await Promise.allSettled(wanted))
      if (answer.status === 'fulfilled')
        this.helpers.push({ server: answer.value, folder: undefined, open: undefined });
  }

  /**
   * Does tasks, in their order, but that a connection keeps to the folder that it has open. Where the folder of a task is
   * gone, `act` is given no folder. A task that failed with its connection is done again by another.
   */
  async each<T extends FolderTask>(
    tasks: T[],
    act: (server: MailServer, task: T, open: OpenFolder | undefined) => Promise<void>,
  ): Promise<void> {
    await this.share(
      tasks,
      (connection) => taken(tasks, connection, [this.primary, ...this.helpers]),
      async (connection, task) => act(connection.server, task, await this.openFor(connection, task.serverName)),
    );
  }

  /** Does tasks in their order, each of which opens what it needs. */
  async visit<T>(tasks: T[], act: (server: MailServer, task: T) => Promise<void>): Promise<void> {
    await this.share(
      tasks,
      () => tasks.shift(),
      async (connection, task) => {
        connection.folder = undefined;
        connection.open = undefined;
        await act(connection.server, task);
      },
    );
  }

  private async share<T>(
    tasks: T[],
    next: (connection: Connection) => T | undefined,
    act: (connection: Connection, task: T) => Promise<void>,
  ): Promise<void> {
    const work = async (connection: Connection) => {
      for (let task = next(connection); task; task = next(connection)) {
        try {
          await act(connection, task);
          this.advanced();
        } catch (error) {
          tasks.unshift(task);
          if (!isOfConnection(error)) throw error;
          if (connection === this.primary) await this.replacePrimary(error);
          else return this.dismiss(connection);
        }
      }
    };
    // Nobody may still be writing when this one ends, however it ends.
    const ended = await Promise.allSettled([this.primary, ...this.helpers].map(work));
    for (const end of ended) if (end.status === 'rejected') throw end.reason;
    // What a helper gave back when the others had finished.
    if (tasks.length > 0) await work(this.primary);
  }

  private async openFor(connection: Connection, serverName: string): Promise<OpenFolder | undefined> {
    if (connection.folder === serverName && connection.open) return connection.open;
    connection.folder = serverName;
    connection.open = undefined;
    try {
      connection.open = await connection.server.open(serverName);
      return connection.open;
    } catch (error) {
      if (error instanceof MailProblem && error.kind === 'folder-gone') return undefined;
      throw error;
    }
  }

  /** A host that wants patience, or loses connections over nothing, is left alone for a while: that is the caller's. */
  private async replacePrimary(error: MailProblem): Promise<void> {
    this.losses++;
    if (error.kind !== 'connection-lost' || this.losses > MAX_LOSSES) throw error;
    await this.primary.server.close();
    Object.assign(this.primary, { server: await this.another(), folder: undefined, open: undefined });
  }

  private async dismiss(connection: Connection): Promise<void> {
    this.helpers.splice(this.helpers.indexOf(connection), 1);
    await connection.server.close();
  }

  async close(): Promise<void> {
    await Promise.all([this.primary, ...this.helpers].map(({ server }) => server.close()));
  }
}

/**
 * Takes the next task for a connection: in the folder that it has open, else in one that no other has, since opening a large
 * folder costs the server as much as thousands of messages.
 */
function taken<T extends FolderTask>(
  tasks: T[],
  connection: Connection,
  connections: readonly Connection[],
): T | undefined {
  const others = new Set(connections.filter((other) => other !== connection).map(({ folder }) => folder));
  const same = tasks.findIndex(({ serverName }) => serverName === connection.folder);
  const free = same >= 0 ? same : tasks.findIndex(({ serverName }) => !others.has(serverName));
  return tasks.splice(Math.max(0, free), 1)[0];
}

function isOfConnection(error: unknown): error is MailProblem {
  return error instanceof MailProblem && ['connection-lost', 'throttled', 'timed-out'].includes(error.kind);
}
