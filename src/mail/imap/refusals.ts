import { MailProblem, type MailProblemKind } from '../problem';
import type { Status } from './wire/status';

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
 * What servers say without a code. Each line tells where it was seen: in the source or the answers of a general server of
 * Debian's, by `test/servers`. Words in other languages, or of other servers, are asked of the quota (jobs/run).
 */
const BY_WORDS: readonly { words: RegExp; kind: MailProblemKind }[] = [
  // Cyrus 3.6: `NO Over quota` to COPY, MOVE and APPEND.
  { words: /^over ?quota\b/i, kind: 'no-room' },
  // Courier 1.1: `NO [ALERT] You exceeded your mail quota.` to COPY and APPEND.
  { words: /\bexceeded your (mail )?quota\b/i, kind: 'no-room' },
  // Dovecot 2.3: `NO [OVERQUOTA] Quota exceeded (mailbox for user is full)`; a proxy in front of it may drop the code.
  { words: /^quota exceeded\b/i, kind: 'no-room' },
  // Cyrus 3.6: `NO Permission denied` to COPY, STORE and EXPUNGE without the right (RFC 4314).
  { words: /^permission denied\b/i, kind: 'read-only' },
  // Cyrus 3.6: `NO Mailbox does not exist`; Dovecot 2.3: `NO Mailbox doesn't exist: NAME`; Courier 1.1: `NO Unable to open this mailbox.`
  { words: /^mailbox (does not|doesn.t) exist\b|^unable to open this mailbox\b/i, kind: 'folder-gone' },
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
