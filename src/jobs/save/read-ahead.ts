import { MailProblem } from '../../mail/problem';
import type { Downloaded, MailServer, Wanted } from '../../mail/server';
import { PieceQueue, Room } from './piece-queue';

/** Connections beyond the first: hosts commonly allow ten or more of one user, some fewer. */
const MOST_HELPERS = 2;

/** Sections of messages in one folder, which one connection reads. */
export interface Share {
  /** Of the folder (store/index/folders). */
  generation: number;
  wanted: readonly Wanted[];
}

/** What is read, in shares of one folder each. */
export interface ShareOf<T> extends Share {
  items: T[];
  wanted: Wanted[];
}

/** Octets that one connection is asked for at a time. */
const SHARE_OCTETS = 4 * 2 ** 20;

/**
 * Parts what is to be read into shares, in the order given.
 *
 * @param most items of a share.
 */
export function sharesOf<T extends { generation: number; size: number }>(
  items: readonly T[],
  wantedOf: (item: T) => Wanted,
  most: number,
): ShareOf<T>[] {
  const shares: ShareOf<T>[] = [];
  let octets = 0;
  for (const item of items) {
    let share = shares.at(-1);
    octets += item.size;
    if (share?.generation !== item.generation || share.items.length >= most || octets > SHARE_OCTETS) {
      share = { generation: item.generation, items: [], wanted: [] };
      shares.push(share);
      octets = item.size;
    }
    share.items.push(item);
    share.wanted.push(wantedOf(item));
  }
  return shares;
}

/** A share as it comes. */
export interface ArrivingShare<S extends Share> {
  share: S;
  /** Whether its folder is there, and has that UIDVALIDITY. */
  isThere: boolean;
  /** Throws `HelperLost` where a connection was lost that can be done without. */
  pieces: AsyncIterable<Downloaded>;
}

/** A connection beyond the first was lost, or its host wants no more of them: what it was to read is read over the first. */
export class HelperLost extends Error {}

interface UnderWay<S extends Share> {
  share: S;
  queue: PieceQueue;
  begun: Promise<boolean>;
  begin(isThere: boolean): void;
}

/**
 * Reads shares over several connections at a time, and gives them in their order: while one comes, the next are read already,
 * as far as there is room for them in memory.
 */
export class ReadAhead {
  private helpers: Promise<MailServer | undefined>[] = [];

  /**
   * @param another signs in once more.
   * @param open opens the folder of a generation; whether it is there.
   */
  constructor(
    private readonly first: MailServer,
    private readonly another: () => Promise<MailServer>,
    private readonly open: (server: MailServer, generation: number) => Promise<boolean>,
  ) {}

  /** Asks the host for further connections. One that it refuses is done without. */
  grow(): void {
    while (this.helpers.length < MOST_HELPERS) this.helpers.push(this.another().catch(() => undefined));
  }

  async close(): Promise<void> {
    const helpers = await Promise.all(this.helpers.splice(0));
    await Promise.allSettled(helpers.map((helper) => helper?.close()));
  }

  async *each<S extends Share>(shares: readonly S[]): AsyncGenerator<ArrivingShare<S>> {
    const all = shares.map(underWay);
    let taken = 0;
    let isOver = false;
    const next = () => (isOver ? undefined : all[taken++]);
    const reading = [
      this.read(this.first, next, (error) => error),
      ...this.helpers.map(async (helper, at) => {
        const server = await helper;
        if (!server || isOver) return;
        const isWell = await this.read(server, next, (error) => (isOfConnection(error) ? new HelperLost() : error));
        if (!isWell) this.helpers[at] = server.close().then(undefined, () => undefined);
      }),
    ];
    try {
      for (const { share, queue, begun } of all) yield { share, isThere: await begun, pieces: queue.pieces() };
      await Promise.all(reading);
    } finally {
      // Where that is too early, each connection ends by itself with its next piece.
      isOver = true;
      for (const { queue } of all) queue.close();
    }
  }

  /** Reads one share after the other. What fails is told to whoever takes the share, and nothing more is read. */
  private async read<S extends Share>(
    server: MailServer,
    next: () => UnderWay<S> | undefined,
    told: (error: unknown) => unknown,
  ): Promise<boolean> {
    const room = new Room();
    for (let one = next(); one; one = next()) {
      const { share, queue } = one;
      try {
        const isThere = await this.open(server, share.generation);
        one.begin(isThere);
        if (queue.isClosed) return true;
        if (isThere)
          for await (const piece of server.downloads(share.wanted)) if (!(await queue.put(piece, room))) return false;
        queue.finish();
      } catch (failure) {
        one.begin(true);
        queue.finish({ failure: told(failure) });
        return false;
      }
    }
    return true;
  }
}

function underWay<S extends Share>(share: S): UnderWay<S> {
  let begin: (isThere: boolean) => void = () => undefined;
  const begun = new Promise<boolean>((resolve) => {
    begin = resolve;
  });
  return { share, queue: new PieceQueue(), begun, begin };
}

/** What is said of a connection, and not of what was asked over it. */
function isOfConnection(error: unknown): boolean {
  return error instanceof MailProblem && ['connection-lost', 'timed-out', 'refused', 'throttled'].includes(error.kind);
}
