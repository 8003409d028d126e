import { readFileSync } from 'node:fs';
import { openDatabase, row, transaction } from '../store/database';
import { addMailboxes, changeMailbox, type MailboxChange } from '../store/host/mailboxes';
import { findOrCreateOperator } from '../store/host/operators';

/** One day of a mailbox's past, as the stand-in makes it up. */
interface PastDay {
  day: string;
  used: number;
  limit: number;
  messages: number;
  messageLimit: number;
  inboxMessages: number;
  inboxUnseen: number;
  counted: number;
}

/** What the operator of the demo has noted of some mailboxes. */
const NOTES: Record<string, MailboxChange> = {
  'r.pettifer@saltmarshlane.example': { leftOn: '2025-03-14', note: 'Rowan moved away; the plots went to the Quorns' },
  'everything-else@saltmarshlane.example': { catchesAll: true, note: 'gets what has no mailbox' },
  'fax@saltmarshlane.example': { note: 'the fax machine in the hut' },
};

/**
 * Gives the demo's host operator the mailboxes of the host and a past: a demo that begins today has measured nothing yet. What is in
 * there already stays.
 *
 * @param pastFile JSON of [user, days] for each mailbox.
 */
export async function seedDemoHost(
  url: string,
  at: { host: string; port: number },
  operator: string,
  pastFile: string,
): Promise<void> {
  const past = JSON.parse(readFileSync(pastFile, 'utf8')) as [string, PastDay[]][];
  const database = openDatabase(url, 1);
  try {
    await transaction(database, async (client) => {
      const place = { ...at, security: 'tls' as const };
      const found = await findOrCreateOperator(client, { ...place, user: operator, proof: operator });
      if (await row(client, 'select 1 from host_mailbox where operator = $1 limit 1', [found.id])) return;
      const mailboxes = past.map(([user]) => ({ ...place, user, bytes: null, messages: null, note: '' }));
      const ids = await addMailboxes(client, found.id, mailboxes, new Date());
      for (const [index, [user, days]] of past.entries()) {
        const id = ids[index] as number;
        const note = NOTES[user];
        if (note) await changeMailbox(client, found.id, id, note);
        const column = (key: keyof PastDay) => days.map((day) => day[key]);
        await client.query(
          `insert into host_measurement (operator, mailbox, day, at, used, storage_limit, messages, message_limit,
             counted_messages, counted_bytes, inbox_messages, inbox_unseen, trash_messages, junk_messages)
           select $1, $2, day, day + time '18:00' at time zone 'UTC', used, room, messages, most, messages, counted, inbox, unseen, 0, 0
           from unnest($3::date[], $4::bigint[], $5::bigint[], $6::bigint[], $7::bigint[], $8::bigint[], $9::bigint[], $10::bigint[])
             as past (day, used, room, messages, most, inbox, unseen, counted)`,
          [
            ...[found.id, id, column('day'), column('used'), column('limit'), column('messages')],
            ...[column('messageLimit'), column('inboxMessages'), column('inboxUnseen'), column('counted')],
          ],
        );
      }
    });
  } finally {
    await database.end();
  }
}
