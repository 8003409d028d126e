/** What can be made to go wrong. Everything is off by default; `times` counts down to nothing. */
export interface Faults {
  /** From when octets are sent to the host until it hears them; commands sent together wait once. */
  latencyMs: number;
  /** Of the line to the clients, which all connections share; 0 is unlimited. */
  bytesPerSecond: number;
  /** Closes a connection when it has been sent so many octets; 0 is never. */
  dropAfterBytes: number;
  /** Does the command, then closes the connection instead of answering. */
  dropAnswerTo: { command: string; times: number } | null;
  /** Says BYE instead of doing the command. */
  byeOn: { command: string; times: number } | null;
  /** Answers NO. */
  refuse: { command: string; code: string; text: string; times: number } | null;
  /** Answers NO [LIMIT] to all but one command in so many milliseconds; 0 is never. */
  throttleMs: number;
  /** Answers BAD to a command, but for AUTHENTICATE, whose line is longer than so many octets; 0 takes any. */
  longestCommand: number;
  /** Folders that are open for reading only. */
  readOnly: string[];
  /** Folders whose messages may be copied and marked by nobody: STORE, MOVE and EXPUNGE are NO (RFC 4314). */
  noDelete: string[];
  /** What is expunged outside the trash is put into it. */
  trashesByItself: boolean;
  /** Every so manieth message by UID has an ENVELOPE that breaks off, the one after it one of two megabytes; 0 is none. */
  garbleEvery: number;
  /** Signs in so many at once, and answers NO [LIMIT] to more; 0 is any number. */
  mostConnections: number;
  /** Nobody signs in before the connection is encrypted: LOGINDISABLED, and no mechanism. */
  tlsFirst: boolean;
  /** No password is taken, but tokens of the authorization server. */
  tokensOnly: boolean;
  /** Names of users are taken in any letter case. */
  anyCase: boolean;
  /** SASL LOGIN is offered, and the command of that name is not. */
  saslLogin: boolean;
  /** Pretends in SCRAM to know the password. */
  falseProof: boolean;
  /** No password is right any more. */
  refuseSignIn: boolean;
  quotaLagSeconds: number;
  /** Whether Archive and what lies below it has a quota root of its own. */
  archiveRoot: boolean;
  /** Capabilities that are not offered and whose commands are BAD. */
  hide: string[];
  /** A full mailbox, and what is not allowed, are told in words without a response code. */
  wordsOnly: boolean;
  /** UTF8=ACCEPT is offered; once it is enabled names go in UTF-8, and those in modified UTF-7 are other names (RFC 6855). */
  utf8: boolean;
  /** UIDNEXT is told neither by SELECT nor by STATUS. */
  noUidNext: boolean;
  /** Figures of limits and of folders count messages as they are stored, with LF for CRLF; RFC822.SIZE as they are sent. */
  countsLf: boolean;
  /** A set of UIDs such as `9:*` that begins beyond the last message names none, as on Courier 5.0; RFC 9051 §9 has it name the last. */
  emptyBeyondLast: boolean;
  /** Lies in the answer to a command, a number of times. */
  lie: { kind: Lie; times: number } | null;
}

/** How an answer can be wrong, though its command ends with OK. */
export type Lie =
  /** SEARCH tells nothing. */
  | 'silent search'
  /** SEARCH finds nothing, and says so. */
  | 'empty search'
  /** ESEARCH names four thousand million UIDs. */
  | 'endless set'
  /** ESEARCH leaves out its last range, and its count does not. */
  | 'short set'
  /** FETCH tells of every other message only. */
  | 'half fetch'
  /** SELECT says that the folder is empty. */
  | 'empty select'
  /** LIST tells of the inbox alone. */
  | 'short list';

export function noFaults(): Faults {
  return {
    latencyMs: 0,
    bytesPerSecond: 0,
    dropAfterBytes: 0,
    dropAnswerTo: null,
    byeOn: null,
    refuse: null,
    throttleMs: 0,
    longestCommand: 0,
    readOnly: [],
    noDelete: [],
    trashesByItself: false,
    garbleEvery: 0,
    mostConnections: 0,
    tlsFirst: false,
    tokensOnly: false,
    anyCase: false,
    saslLogin: false,
    falseProof: false,
    refuseSignIn: false,
    quotaLagSeconds: 0,
    archiveRoot: false,
    hide: [],
    wordsOnly: false,
    utf8: false,
    noUidNext: false,
    countsLf: false,
    emptyBeyondLast: false,
    lie: null,
  };
}

/** Whether an answer is to be such a lie; counts it. */
export function lies({ lie }: Faults, kind: Lie): boolean {
  if (!lie || lie.times <= 0 || lie.kind !== kind) return false;
  lie.times--;
  return true;
}

/** Whether a counted fault strikes now; counts it. */
export function strikes(fault: { command: string; times: number } | null, command: string): boolean {
  if (!fault || fault.times <= 0 || fault.command.toUpperCase() !== command.toUpperCase()) return false;
  fault.times--;
  return true;
}
