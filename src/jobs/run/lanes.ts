import { MailProblem } from '../../mail/problem';
import type { MailServer } from '../../mail/server';
import type { BatchExecutor } from './batch/executor';
import type { Folders } from './folders';

/** Connections of one run: hosts commonly allow ten or more of one user, some fewer. */
const MAX_LANES = 3;
/** Commands that one of them has under way. */
const UNDER_WAY = 16;

/** A connection of a run. */
export interface Lane {
  server: MailServer;
  folders: Folders;
  executor: BatchExecutor;
}

/** The connections of a run. The first is the job's own; further ones are done without where the host does not let them in. */
export class Lanes {
  private readonly helpers: Lane[] = [];
  private asked = false;

  /** @param another makes a further lane. */
  constructor(
    readonly first: Lane,
    private readonly another: () => Promise<Lane>,
  ) {}

  /** Asks the host for further connections, once. */
  async grow(): Promise<void> {
    if (this.asked) return;
    this.asked = true;
    const wanted = Array.from({ length: MAX_LANES - 1 }, () => this.another());
    for (const answer of await Promise.allSettled(wanted))
      if (answer.status === 'fulfilled') this.helpers.push(answer.value);
  }

  get all(): readonly Lane[] {
    return [this.first, ...this.helpers];
  }

  /**
   * Does tasks. A lane that is lost is done without, but for the first, whose loss ends it all.
   *
   * @param together whether a lane may begin a task while it waits for the answer to another.
   * @returns what became of each task, and why the first lane was lost, if it was.
   */
  async each<T, R>(
    tasks: readonly T[],
    parallel: boolean,
    act: (lane: Lane, task: T) => Promise<R>,
    together: (task: T, other: T) => boolean = () => false,
  ): Promise<{ outcomes: Outcome<T, R>[]; lost: unknown }> {
    const outcomes: Outcome<T, R>[] = [];
    let next = 0;
    let lost: unknown;
    const one = async (lane: Lane, task: T): Promise<Outcome<T, R>> => {
      try {
        return { task, result: await act(lane, task) };
      } catch (error) {
        return { task, error };
      }
    };
    const work = async (lane: Lane) => {
      while (next < tasks.length && lost === undefined) {
        const first = tasks[next++] as T;
        const some = [one(lane, first)];
        while (some.length < UNDER_WAY && next < tasks.length && together(first, tasks[next] as T))
          some.push(one(lane, tasks[next++] as T));
        const ended = await Promise.all(some);
        for (const outcome of ended) outcomes.push(outcome);
        const loss = ended.find(({ error }) => error !== undefined && isOfConnection(error));
        if (!loss) continue;
        if (lane === this.first) lost = loss.error;
        else await this.dismiss(lane);
        return;
      }
    };
    // Nobody may still be writing when this one ends, however it ends.
    await Promise.all((parallel ? this.all : [this.first]).map(work));
    return { outcomes, lost };
  }

  private async dismiss(lane: Lane): Promise<void> {
    this.helpers.splice(this.helpers.indexOf(lane), 1);
    await lane.server.close();
  }

  async close(): Promise<void> {
    await Promise.all(this.helpers.map(({ server }) => server.close()));
  }
}

/** What became of a task. */
export interface Outcome<T, R> {
  task: T;
  result?: R;
  error?: unknown;
}

/** Whether nothing more can be done over the connection. */
export function isOfConnection(error: unknown): boolean {
  return !(error instanceof MailProblem) || ['connection-lost', 'timed-out', 'unreadable-answer'].includes(error.kind);
}
