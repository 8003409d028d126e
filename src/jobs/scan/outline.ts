import { FirstRanking, type RankedAuthor } from '../../core/senders/first-ranking';
import { countOf, numbersOf, type Ranges, rangesOf } from '../../core/sets/ranges';
import type { MailServer, Outline } from '../../mail/server';

/** Fewer messages are read as quickly as they are outlined. */
export const WORTH_OUTLINING = 2_000;

/** From so many octets on a message is read before all smaller ones, wherever it lies. */
const BIG = 2 ** 20;

/** The first pass over messages that are to be read: what a ranking needs, and which of them are big. */
export class OutlinePass {
  private readonly ranking = new FirstRanking();
  private readonly bigUids = new Map<number, number[]>();

  /**
   * Outlines messages of the folder that the server has open; where that fails, what was not outlined is left of `uids`, so
   * that each counts once whoever goes on.
   *
   * @param counted whether they count in the ranking: the trash does not.
   * @param onRead is called with the number of messages that were outlined.
   */
  async read(
    server: Pick<MailServer, 'outlines'>,
    folder: number,
    task: { uids: Ranges },
    counted: boolean,
    onRead: (messages: number) => Promise<void>,
  ): Promise<void> {
    const missing = new Set(numbersOf(task.uids));
    const big = this.bigUids.get(folder) ?? [];
    this.bigUids.set(folder, big);
    try {
      for await (const outlines of server.outlines(task.uids)) {
        for (const outline of outlines) {
          if (!missing.delete(outline.uid)) continue;
          if (counted) this.ranking.add(outline);
          if (outline.size >= BIG) big.push(outline.uid);
        }
        await onRead(outlines.length);
      }
    } finally {
      task.uids = rangesOf(missing);
    }
  }

  /** Counts messages that were read in full already. */
  add(outlines: readonly Outline[]): void {
    for (const outline of outlines) this.ranking.add(outline);
  }

  get authors(): RankedAuthor[] {
    return this.ranking.authors();
  }

  get sums() {
    const { messages, bytes, sizes } = this.ranking;
    return { messages, bytes, sizes };
  }

  /** The big messages of a folder. */
  bigOf(folder: number): Ranges {
    return rangesOf(this.bigUids.get(folder) ?? []);
  }
}

/** How many messages there are in sets. */
export function total(sets: readonly { fresh: Ranges }[]): number {
  return sets.reduce((sum, { fresh }) => sum + countOf(fresh), 0);
}
