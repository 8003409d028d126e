import type { Bag as BagFolder } from '../../archive/bag';
import { fold, storable } from '../../core/text';
import { SegmentBuilder } from '../../core/words/segment';
import { eachToken, withoutLines } from '../../core/words/tokens';
import { searchedText } from '../../mail/mime/searched-text';
import { saveWords } from '../../store/archive/archive-words';
import { noteWords, type UnreadMessage, unreadMessages } from '../../store/archive/archived';
import { isAwaited } from '../../store/jobs';
import type { Turn, WorkContext } from '../context';
import type { Fence } from '../fence';

/** Messages that are looked up at a time. */
const PAGE = 200;
/** What is collected in memory before it is written down: tokens, different ones, and texts. */
const MOST_TOKENS = 6_000_000;
const MOST_WORDS = 300_000;
const MOST_TEXTS = 20_000;

/** What is collected of messages that follow each other. */
class Collected {
  private readonly builder = new SegmentBuilder();
  partly = 0;

  constructor(
    private readonly first: number,
    public last: number,
  ) {}

  get isFull(): boolean {
    const { size, words, texts } = this.builder;
    return size >= MOST_TOKENS || words >= MOST_WORDS || texts >= MOST_TEXTS;
  }

  add(id: number, text: string): void {
    this.last = id;
    eachToken(text, (token, blanks) => this.builder.add(token, blanks));
    this.builder.endText();
  }

  end() {
    return { first: this.first, texts: this.builder.texts, packed: this.builder.end() };
  }
}

/**
 * Reads the words of the messages of a bag, so that they are found. What was written down is not read again; it gives way to
 * whatever waits.
 *
 * @returns whether it is through.
 */
export async function readWords(
  { database, log }: WorkContext,
  account: number,
  bag: { id: number },
  folder: BagFolder,
  fenced: Fence,
  turn: Turn,
): Promise<boolean> {
  let collected: Collected | undefined;
  const flush = async () => {
    if (!collected) return;
    const { last, partly } = collected;
    const words = collected.end();
    collected = undefined;
    await fenced(async (client) => {
      await saveWords(client, account, bag.id, words);
      await noteWords(client, account, bag.id, { to: last, partly });
      await turn.progressed(client);
    });
  };
  let behind = 0;
  for (;;) {
    const page = await unreadMessages(database, account, bag.id, PAGE, behind);
    for (const message of page) {
      collected ??= new Collected(message.id, message.id);
      const { text, isWhole } = await textOf(folder, message).catch((error: unknown) => {
        log.warn({ err: error, account, bag: bag.id, message: message.id }, 'the text of a message could not be read');
        return { text: '', isWhole: false };
      });
      if (!isWhole) collected.partly++;
      collected.add(message.id, searchable(`${text}\n${message.files}`));
      behind = message.id;
      if (collected.isFull) await flush();
    }
    if (page.length < PAGE) break;
    if (await isAwaited(database, account, 'bring-in')) {
      await flush();
      return false;
    }
  }
  await flush();
  await fenced((client) => noteWords(client, account, bag.id, { to: null, partly: 0 }));
  return true;
}

/** A text as it is searched (core/words). Line by line, since a line of plain letters is folded much faster. */
function searchable(text: string): string {
  return withoutLines(storable(text).split('\n').map(fold).join(' '));
}

async function textOf(folder: BagFolder, place: UnreadMessage) {
  const opened = await folder.message(place);
  if (!opened) return { text: '', isWhole: false };
  let first: AsyncIterable<Buffer> | undefined = opened;
  // A large message is read twice.
  async function* read() {
    const octets = first ?? (await folder.message(place));
    first = undefined;
    if (octets) yield* octets;
  }
  return searchedText(read);
}
