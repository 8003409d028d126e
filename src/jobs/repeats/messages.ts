import { readingOf } from '../../core/repeats/reading';
import { TwinDigesting } from '../../mail/mime/twin-digests';
import type { Account } from '../../store/access/accounts';
import type { Database } from '../../store/database';
import { type Compared, placesOf, saveCompared, type ToCompare, twinCandidates } from '../../store/index/twins';
import { type Kind, pagesOf, readWhole } from './reading';

/** Messages that are looked up at a time. */
const PAGE = 4_000;

/** Reads messages that may exist more than once whole. */
export function messagesReading(database: Database, account: Account): Kind<ToCompare, Compared> {
  return {
    async wanted(budget) {
      const candidates = await twinCandidates(database, account);
      const { messages, bytes } = readingOf(candidates.groups, candidates, budget);
      return { ids: messages, bytes };
    },
    pages: (ids) => pagesOf(ids, PAGE),
    places: (ids) => placesOf(database, account.id, ids),
    // One octet more shows that it is longer than was said.
    sectionOf: ({ uid, size }) => ({ uid, section: '', expected: size, most: size + 1 }),
    async read({ message, size }, octets) {
      const digesting = new TwinDigesting();
      const came = await readWhole(
        octets,
        (length) => length === size,
        async (pieces) => {
          for await (const piece of pieces) digesting.add(piece);
        },
      );
      if (came === undefined) return undefined;
      if (came === null) return { message, twin: null, octets: null, kept: null };
      const { octets: whole, kept, content } = digesting.end();
      return { message, twin: content ?? kept ?? whole, octets: whole, kept };
    },
    save: (db, found) => saveCompared(db, account.id, found),
  };
}
