import { MailProblem } from '../../mail/problem';
import type { MailServer, OpenFolder } from '../../mail/server';

/** Work in one folder. */
export interface FolderTask {
  serverName: string;
}

/** Connections beyond the first: hosts commonly allow ten or more of one user, some fewer. */
const MOST_HELPERS = 2;

/** Times in a row that the first connection is lost and made again with nothing read in between. */
const MOST_LOSSES = 3;

/** A connection and the folder that it has open. */
interface Hand {
  server: MailServer;
  folder: string | undefined;
  open: OpenFolder | undefined;
}

/**
 * Several connections that share work, as many as the host lets in: one that it refuses, or drops, is done without, but for
 * the first, which is made again, so that what was read so far and is kept in memory is not read anew.
 */
export class Crew {
  private readonly helpers: Hand[] = [];
  private readonly chief: Hand;
  private losses = 0;

  constructor(
    server: MailServer,
    private readonly another: () => Promise<MailServer>,
  ) {
    this.chief = { server, folder: undefined, open: undefined };
  }

  /** The connection for what is not shared. */
  get first(): MailServer {
    return this.chief.server;
  }

  /** Says that something was read, and so that the host can be used. */
  advanced(): void {
    this.losses = 0;
  }

  /** Asks the host for further connections. */
  async grow(): Promise<void> {
    const wanted = Array.from({ length: MOST_HELPERS - this.helpers.length }, () => this.another());
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
    const next = (hand: Hand) => taken(tasks, hand, [this.chief, ...this.helpers]);
    const work = async (hand: Hand) => {
      for (let task = next(hand); task; task = next(hand)) {
        try {
          await act(hand.server, task, await this.openFor(hand, task.serverName));
          this.advanced();
        } catch (error) {
          tasks.unshift(task);
          if (!isOfConnection(error)) throw error;
          if (hand === this.chief) await this.replaceChief(error);
          else return this.dismiss(hand);
        }
      }
    };
    // Nobody may still be writing when this one ends, however it ends.
    const ended = await Promise.allSettled([this.chief, ...this.helpers].map(work));
    for (const end of ended) if (end.status === 'rejected') throw end.reason;
    // What a helper gave back when the others had finished.
    if (tasks.length > 0) await work(this.chief);
  }

  private async openFor(hand: Hand, serverName: string): Promise<OpenFolder | undefined> {
    if (hand.folder === serverName && hand.open) return hand.open;
    hand.folder = serverName;
    hand.open = undefined;
    try {
      hand.open = await hand.server.open(serverName);
      return hand.open;
    } catch (error) {
      if (error instanceof MailProblem && error.kind === 'folder-gone') return undefined;
      throw error;
    }
  }

  /** A host that wants patience, or loses connections over nothing, is left alone for a while: that is the caller's. */
  private async replaceChief(error: MailProblem): Promise<void> {
    this.losses++;
    if (error.kind !== 'connection-lost' || this.losses > MOST_LOSSES) throw error;
    await this.chief.server.close();
    Object.assign(this.chief, { server: await this.another(), folder: undefined, open: undefined });
  }

  private async dismiss(hand: Hand): Promise<void> {
    this.helpers.splice(this.helpers.indexOf(hand), 1);
    await hand.server.close();
  }

  async close(): Promise<void> {
    await Promise.all([this.chief, ...this.helpers].map(({ server }) => server.close()));
  }
}

/**
 * Takes the next task for a connection: in the folder that it has open, else in one that no other has, since opening a large
 * folder costs the server as much as thousands of messages.
 */
function taken<T extends FolderTask>(tasks: T[], hand: Hand, hands: readonly Hand[]): T | undefined {
  const others = new Set(hands.filter((other) => other !== hand).map(({ folder }) => folder));
  const same = tasks.findIndex(({ serverName }) => serverName === hand.folder);
  const free = same >= 0 ? same : tasks.findIndex(({ serverName }) => !others.has(serverName));
  return tasks.splice(Math.max(0, free), 1)[0];
}

function isOfConnection(error: unknown): error is MailProblem {
  return error instanceof MailProblem && (error.kind === 'connection-lost' || error.kind === 'throttled');
}
