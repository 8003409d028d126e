import { echoesIn, type ThreadMessage } from '../../core/repeats/echoes';
import { quotableMessage } from '../../mail/mime/quotable';
import type { Account } from '../../store/access/accounts';
import type { Database } from '../../store/database';
import { type Letter, lettersToRead, saveEchoes, writtenAt } from '../../store/index/echoes';
import { type Kind, readWhole } from './reading';

/** Messages, and octets, of the threads that are compared together: their texts are held. */
const PAGE_MESSAGES = 2_000;
const PAGE_OCTETS = 32 * 2 ** 20;

/** Reads the messages of threads whole, to find those that a later one quotes in full. What came of a thread is kept once all of it was read. */
export function threadsReading(database: Database, account: Account): Kind<Letter, never> {
  const letters = new Map<number, Letter>();
  let said: Map<number, ThreadMessage> = new Map();
  return {
    async wanted(budget) {
      const found = await lettersToRead(database, account, budget);
      for (const letter of found) letters.set(letter.message, letter);
      return { ids: [...letters.keys()], bytes: found.reduce((sum, { size }) => sum + size, 0) };
    },
    *pages(ids) {
      let page: number[] = [];
      let octets = 0;
      let thread = 0;
      for (const id of ids) {
        const letter = letters.get(id) as Letter;
        if (letter.thread !== thread && (page.length >= PAGE_MESSAGES || octets >= PAGE_OCTETS)) {
          yield page;
          page = [];
          octets = 0;
        }
        thread = letter.thread;
        page.push(id);
        octets += letter.size;
      }
      if (page.length > 0) yield page;
    },
    async places(ids) {
      said = new Map();
      const found = ids.map((id) => letters.get(id) as Letter);
      return found.sort((a, b) => a.generation - b.generation || a.uid - b.uid);
    },
    // One octet more shows that it is longer than was said.
    sectionOf: ({ uid, size }) => ({ uid, section: '', expected: size, most: size + 1 }),
    async read({ message, size }, octets) {
      const pieces: Buffer[] = [];
      const came = await readWhole(
        octets,
        (length) => length === size,
        async (all) => {
          for await (const piece of all) pieces.push(piece);
        },
      );
      const quotable = came ? await quotableMessage(Buffer.concat(pieces)) : undefined;
      if (quotable) said.set(message, { id: message, ...quotable });
      return undefined;
    },
    save: async () => undefined,
    async settle(ids) {
      const written = await writtenAt(database, account.id, ids);
      const threads = new Map<number, ThreadMessage[]>();
      for (const id of ids) {
        const { thread } = letters.get(id) as Letter;
        const message = said.get(id);
        const known = threads.get(thread) ?? [];
        if (message) known.push(message);
        threads.set(thread, known);
      }
      const orderOf = ({ id }: ThreadMessage) => written.get(id) ?? 0;
      const echoes = [...threads.values()].flatMap((thread) =>
        echoesIn(thread.sort((a, b) => orderOf(a) - orderOf(b) || a.id - b.id)),
      );
      return (db) => saveEchoes(db, account, [...threads.keys()], echoes);
    },
  };
}
