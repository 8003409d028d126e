/** Why a mail server could not be used, told apart so that a person knows what to do. */
export type MailProblemKind =
  | 'no-such-host'
  | 'address-not-allowed'
  /** The operator names the servers that may be used, and this is none of them. */
  | 'server-not-allowed'
  | 'refused'
  | 'timed-out'
  | 'untrusted-certificate'
  | 'no-tls'
  | 'plain-text-not-allowed'
  | 'password-refused'
  | 'token-refused'
  | 'authorization-refused'
  | 'authorization-unreachable'
  | 'no-mechanism'
  | 'server-not-proven'
  | 'not-imap'
  | 'connection-lost'
  | 'throttled'
  /** An answer that was cut off, contradicts itself, or keeps to no grammar. */
  | 'unreadable-answer'
  /** More than the operator lets the index of one mailbox hold. */
  | 'too-many-messages'
  | 'no-room'
  | 'command-refused'
  | 'read-only'
  | 'folder-gone'
  | 'message-gone';

/** A failure of the mail server or of the way to it. `message` is a sentence for a person. */
export class MailProblem extends Error {
  constructor(
    readonly kind: MailProblemKind,
    message: string,
    options?: ErrorOptions,
  ) {
    super(message, options);
    this.name = 'MailProblem';
  }
}

/** Kinds after which trying again later may help without anybody doing something. */
const PASSING = new Set<MailProblemKind>([
  'refused',
  'timed-out',
  'connection-lost',
  'not-imap',
  'throttled',
  'authorization-unreachable',
]);

/** What a server says of one message or section alone, after which the connection is as good as before. */
const OF_ONE = new Set<MailProblemKind>(['message-gone', 'command-refused', 'throttled']);

/** Whether trouble of a kind passes without anybody doing something. */
export function passes(kind: string): boolean {
  return (PASSING as ReadonlySet<string>).has(kind);
}

export function isOfOne(error: unknown): error is MailProblem {
  return error instanceof MailProblem && OF_ONE.has(error.kind);
}

export function isPassing(error: unknown): boolean {
  return error instanceof MailProblem && PASSING.has(error.kind);
}
