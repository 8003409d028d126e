import type { ImapFlow } from 'imapflow';
import { BorrowedConnection } from './borrowed';
import { type FetchListener, FetchResponses } from './responses';

/** Commands that the server has before it while it answers, so that the line never waits for the next. */
const UNDER_WAY = 2;

/** One UID FETCH after the other. */
export interface BulkFetch<T> extends FetchListener<T> {
  /** The next command's arguments; undefined where there are no more. */
  next(): string | undefined;
}

/**
 * Fetches over a connection of imapflow's and gives what was read, many at a time: as many as the octets that came held.
 * A response that can't be read, or is longer than any should be, is passed by: its message is missing from what is given.
 *
 * Throws a MailProblem where a command is refused or the connection is lost.
 */
export async function* fetchInBulk<T>(client: ImapFlow, fetch: BulkFetch<T>): AsyncGenerator<T[]> {
  const connection = BorrowedConnection.from(client);
  const responses = new FetchResponses(fetch);
  let isWhole = false;
  try {
    for (;;) {
      while (responses.open < UNDER_WAY && !responses.refused) {
        const command = fetch.next();
        if (command === undefined) break;
        connection.send(`${responses.tag()} UID FETCH ${command}`);
      }
      if (responses.open === 0) break;
      responses.push(await connection.next());
      const read = responses.take();
      if (read.length > 0) yield read;
    }
    isWhole = true;
  } finally {
    if (isWhole) connection.giveBack(responses.rest());
    else connection.end();
  }
  if (responses.refused) throw responses.refused;
}
