import { MailProblem, type MailProblemKind } from '../../problem';
import type { Status } from '../wire/status';

/** What response codes say (RFC 5530, RFC 9208 §4.1, RFC 9051 §7.1). */
const BY_CODE: Readonly<Record<string, MailProblemKind>> = {
  OVERQUOTA: 'no-room',
  NOPERM: 'read-only',
  'READ-ONLY': 'read-only',
  NONEXISTENT: 'folder-gone',
  TRYCREATE: 'folder-gone',
  UNAVAILABLE: 'throttled',
  INUSE: 'throttled',
  LIMIT: 'throttled',
  SERVERBUG: 'throttled',
  EXPIRED: 'connection-lost',
};

/**
 * What servers say without a code, or with one that says nothing ([ALERT]). Each was seen in the programs of Debian 12 that it
 * names. Words of other servers, and in other languages, are not guessed at: where it may be for want of room the quota is
 * asked (jobs/run).
 */
const BY_WORDS: readonly { words: RegExp; kind: MailProblemKind }[] = [
  // Cyrus 3.6, libcyrus_imap: `NO Over quota`, to COPY, MOVE and APPEND.
  { words: /^over quota\b/i, kind: 'no-room' },
  // Courier 1.0, imapd: `NO [ALERT] You exceeded your mail quota.`, to COPY and APPEND.
  { words: /^you exceeded your mail quota\b/i, kind: 'no-room' },
  // Dovecot 2.3: `NO [OVERQUOTA] Quota exceeded (mailbox for user is full)`, whose code a proxy in front of it may drop.
  { words: /^quota exceeded\b/i, kind: 'no-room' },
  // Cyrus 3.6, libcyrus_imap: `NO Permission denied`, without the right that a command needs (RFC 4314).
  { words: /^permission denied\b/i, kind: 'read-only' },
  // Cyrus 3.6, libcyrus_imap: `NO Mailbox does not exist`.
  // Courier 1.0, imapd: `NO Mailbox does not exist, or must be subscribed to.`, `NO Unable to open this mailbox.`
  // Dovecot 2.3: `NO [NONEXISTENT] Mailbox doesn't exist: NAME`.
  { words: /^mailbox (does not|doesn't) exist\b|^unable to open this mailbox\b/i, kind: 'folder-gone' },
];

const SENTENCES: Partial<Record<MailProblemKind, string>> = {
  'no-room': 'The mailbox is full.',
  'read-only': 'The server does not allow this change.',
  'folder-gone': 'The folder is not there any more.',
  throttled: 'The server asked for patience.',
  'connection-lost': 'The server ended the session.',
};

/** What a refusal is, by its response code, else by its words. */
export function refusal({ code, words }: Pick<Status, 'code' | 'words'>, folder?: string): MailProblem {
  const said = words ? ` The server said: “${words}”.` : '';
  const kind = BY_CODE[code] ?? BY_WORDS.find((entry) => entry.words.test(words))?.kind;
  const named = folder && kind === 'folder-gone' ? `The folder ${folder} is not there any more.` : undefined;
  if (kind) return new MailProblem(kind, `${named ?? SENTENCES[kind]}${said}`);
  if (folder) return new MailProblem('folder-gone', `The folder ${folder} can’t be opened.${said}`);
  return new MailProblem('command-refused', `The server refused.${said}`);
}
