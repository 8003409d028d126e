import { authenticityOf } from '../core/unsubscribe/authenticity';
import { figuresIn } from '../core/warnings/figures';
import { judgeWarning } from '../core/warnings/judge';
import { signaturesOf } from '../mail/dkim';
import { quotableMessage } from '../mail/mime/quotable';
import type { OutboundConfig } from '../mail/outbound-config';
import type { MailServer } from '../mail/server';
import type { Account } from '../store/access/accounts';
import type { Database } from '../store/database';
import { type FullWarning, fullWarnings, saveJudged } from '../store/index/full-warnings';
import { fieldsOf } from './unsubscribe/read-ways';

/** A warning that is larger is none that a host sends. */
const MAX_OCTETS = 2 ** 20;

/** Reads messages that say that the mailbox is full, and tells of each whether it comes from the host. Nothing is followed or fetched. */
export async function readWarnings(
  { database, outbound }: { database: Database; outbound: OutboundConfig },
  account: Account,
  server: MailServer,
): Promise<void> {
  const unread = (await fullWarnings(database, account.id, account.settings.limit)).filter(
    ({ judged }) => judged === null,
  );
  unread.sort((a, b) => (a.serverName < b.serverName ? -1 : a.serverName > b.serverName ? 1 : a.uid - b.uid));
  let opened: { name: string; isSame: boolean } | undefined;
  for (const warning of unread) {
    if (opened?.name !== warning.serverName) {
      const { uidValidity } = await server.open(warning.serverName);
      opened = { name: warning.serverName, isSame: uidValidity === warning.uidValidity };
    }
    // The index does not know what lies there now; the next scan will.
    if (!opened.isSame) continue;
    const octets = warning.size > MAX_OCTETS ? Buffer.alloc(0) : await octetsOf(server, warning);
    if (octets) await saveJudged(database, account.id, warning.id, await judged(octets, warning, account, outbound));
  }
}

async function judged(octets: Buffer, warning: FullWarning, account: Account, outbound: OutboundConfig) {
  const own = { host: account.host, user: account.user };
  const signatures = octets.length > 0 ? await signaturesOf(octets, outbound).catch(() => undefined) : undefined;
  const authenticity = authenticityOf(fieldsOf(octets), warning.from, signatures, own);
  const said = octets.length > 0 ? await quotableMessage(octets) : undefined;
  const text = `${warning.subject}\n${said?.texts.join('\n') ?? ''}`;
  const message = {
    ...{ from: warning.from, authenticity, inJunk: warning.inJunk, isRead: said !== undefined },
    ...{ links: [...(said?.addresses ?? [])], figures: figuresIn(text) },
  };
  return judgeWarning(message, warning.figure, own);
}

/** All of a message; undefined where it is gone, or came cut off. */
async function octetsOf(server: MailServer, { uid, size }: FullWarning): Promise<Buffer | undefined> {
  const pieces: Buffer[] = [];
  for await (const piece of server.downloads([{ uid, section: '', expected: size, most: MAX_OCTETS }]))
    if ('octets' in piece) pieces.push(piece.octets);
    else if ('problem' in piece) return undefined;
  const octets = Buffer.concat(pieces);
  return octets.length < size ? undefined : octets;
}
