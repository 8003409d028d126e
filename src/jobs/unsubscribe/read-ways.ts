import * as clock from '../../clock/clock';
import { authenticityOf, type Field } from '../../core/unsubscribe/authenticity';
import { waysOf } from '../../core/unsubscribe/ways';
import { signaturesOf } from '../../mail/dkim';
import type { MailServer } from '../../mail/server';
import type { Account } from '../../store/access/accounts';
import { tell } from '../../store/events';
import { bulkSenders } from '../../store/index/bulk-senders';
import { finishJob, type Job } from '../../store/jobs';
import { asksOf, messagesToRead, saveWays, type ToRead } from '../../store/plan/asks';
import type { Turn, WorkContext } from '../context';
import { fenceOf } from '../fence';

/** Of a larger message only the header is read, and its host's word has to do. */
const MAX_OCTETS = 2 ** 20;
const MAX_HEADER = 64 * 1024;
export const YEAR_MS = 365 * 86_400_000;

/** Reads in the newest message of each sender of mailings how one leaves it, and whether that is its own word. */
export async function readWays(
  context: WorkContext,
  job: Job,
  account: Account,
  server: MailServer,
  turn: Turn,
): Promise<void> {
  const { database, outbound } = context;
  const fenced = fenceOf(context, job);
  const at = clock.now();
  const [senders, known] = await Promise.all([
    bulkSenders(database, account, new Date(at.getTime() - YEAR_MS)),
    asksOf(database, account.id),
  ]);
  const read = new Map(known.map(({ sender, placement }) => [sender, placement]));
  const fresh = senders.filter(({ sender, newest }) => read.get(sender) !== newest).map(({ newest }) => newest);
  const own = { host: account.host, user: account.user };
  let opened: { name: string; isSame: boolean } | undefined;
  for (const message of await messagesToRead(database, account.id, fresh)) {
    if (opened?.name !== message.serverName) {
      const { uidValidity } = await server.open(message.serverName);
      opened = { name: message.serverName, isSame: uidValidity === message.uidValidity };
    }
    // The index does not know what lies there now; the next scan will.
    if (!opened.isSame) continue;
    const octets = await octetsOf(server, message);
    if (!octets) continue;
    const fields = fieldsOf(octets);
    const first = (wanted: string) => fields.find(([name]) => name === wanted)?.[1] ?? '';
    const signatures =
      message.size > MAX_OCTETS ? undefined : await signaturesOf(octets, outbound).catch(() => undefined);
    await fenced(async (client) => {
      await saveWays(client, account.id, {
        sender: message.sender,
        placement: message.placement,
        readAt: at,
        inJunk: message.inJunk,
        ways: waysOf(first('list-unsubscribe'), first('list-unsubscribe-post')),
        authenticity: authenticityOf(fields, message.from, signatures, own),
      });
      await turn.progressed(client);
    });
  }
  await fenced(async (client) => {
    await finishJob(client, job);
    await tell(client, account.id, 'level', {});
  });
}

/** A message, or the header of one that is too large; undefined where it can't be read any more. */
async function octetsOf(server: MailServer, { uid, size }: ToRead): Promise<Buffer | undefined> {
  const isLarge = size > MAX_OCTETS;
  const wanted = isLarge
    ? { uid, section: 'HEADER', expected: 0, most: MAX_HEADER }
    : { uid, section: '', expected: size, most: MAX_OCTETS };
  const pieces: Buffer[] = [];
  for await (const piece of server.downloads([wanted]))
    if ('octets' in piece) pieces.push(piece.octets);
    else if ('problem' in piece) return undefined;
  const octets = Buffer.concat(pieces);
  // Cut off, its header may lack what speaks against it.
  return !isLarge && octets.length < size ? undefined : octets;
}

/** The fields of a header in their order, unfolded (RFC 5322 §2.2.3); all of it where the message has no body. */
export function fieldsOf(octets: Buffer): Field[] {
  const end = octets.indexOf('\r\n\r\n');
  const header = octets.subarray(0, Math.min(end < 0 ? octets.length : end, MAX_HEADER)).toString('utf8');
  const fields: Field[] = [];
  for (const line of header.replace(/\r\n(?=[ \t])/g, '').split('\r\n')) {
    const colon = line.indexOf(':');
    if (colon > 0) fields.push([line.slice(0, colon).trim().toLowerCase(), line.slice(colon + 1).trim()]);
  }
  return fields;
}
