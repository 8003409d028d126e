import * as v from 'valibot';
import { QUOTINGS } from '../core/brought/quoting';
import { CATEGORIES } from '../core/categories/categories';
import { COPIES } from '../core/files/copies';
import { FILE_KINDS } from '../core/files/kinds';
import { SHRUNK_LENGTHS } from '../core/files/shrinking';
import { GUARD_KINDS } from '../core/guards/guards';
import { RUN_STATES } from '../core/ledger/run-state';
import { CHOSEN_ROLES } from '../core/mailbox/roles';
import { FATES } from '../core/plan/fates';
import { KEEP_REASONS, KEEP_RULES } from '../core/repeats/keeper';
import { READINGS } from '../core/repeats/readings';
import { RHYTHM_UNITS } from '../core/rhythm/rhythm';
import { GROUPINGS } from '../core/senders/grouping';
import { SHEET_NOTES } from '../core/senders/sheet';
import { STANDING_FATES } from '../core/standing/terms';
import { WARNING_SIGNS } from '../core/warnings/judge';

/** The shapes of the API, for those who give them and those who take them. Sizes are octets, times RFC 3339 in UTC. */

const count = v.pipe(v.number(), v.integer(), v.minValue(0));

export const Amount = v.object({ messages: count, bytes: count });
/** Whether the index holds all folders. False during the first scan: the answer leaves out what was not read yet. */
export const Complete = v.boolean();

export const Timestamp = v.pipe(v.string(), v.isoTimestamp());
export const Scope = v.optional(v.picklist(['mail', 'trash', 'all']), 'mail');
/** A day of the calendar (RFC 3339, full-date). */
export const Day = v.pipe(
  v.string(),
  v.isoDate(),
  v.check((day) => new Date(day).toJSON()?.slice(0, 10) === day, 'a day that there is'),
);
export const Where = v.optional(v.pipe(v.string(), v.maxLength(10_000)), '');

/** A whole number in a query, where everything is text. */
export const wholeNumber = (least: number, most: number) =>
  v.pipe(v.string(), v.regex(/^\d{1,12}$/, 'a whole number'), v.transform(Number), v.minValue(least), v.maxValue(most));

export const Ids = v.pipe(v.array(v.pipe(v.number(), v.integer(), v.minValue(1))), v.maxLength(200_000));
export const Label = v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(200));

export const Security = v.picklist(['tls', 'starttls', 'none']);

/** Where a mailbox is, and whose. */
export const MailboxAt = v.object({
  host: v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(253)),
  port: v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(65_535)),
  security: Security,
  user: v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(320)),
});

export const SignIn = v.object({
  ...MailboxAt.entries,
  password: v.pipe(v.string(), v.minLength(1), v.maxLength(1_000)),
  /** Who signs in, where that is another: an operator of the host. */
  signInAs: v.optional(v.pipe(v.string(), v.maxLength(320))),
  /** Why another signs in; the ledger of the mailbox tells its owner. */
  reason: v.optional(v.pipe(v.string(), v.maxLength(500))),
});

/** Why somebody opens a mailbox for its owner. */
export const OpeningReason = v.pipe(v.string(), v.trim(), v.minLength(3), v.maxLength(500));

export const Health = v.object({
  status: v.literal('ok'),
  /** Jobs that are done now, that wait although they are due, and for how many seconds the oldest of these. */
  work: v.object({ running: v.number(), waiting: v.number(), longest: v.number() }),
  /** Programs of the instance that ended by themselves and were started again, since the command started; the newest last. */
  restarts: v.array(v.object({ program: v.string(), at: v.string(), why: v.string() })),
});

export const AccountBrief = v.object({
  id: v.number(),
  user: v.string(),
  host: v.string(),
  port: v.number(),
  security: Security,
  state: v.picklist(['active', 'locked']),
  /** Who signed in for the owner; '' where it is the owner. */
  signInAs: v.string(),
});

/** What somebody who signed in for the owner did in a mailbox. */
export const ActOfOther = v.object({
  at: v.string(),
  by: v.string(),
  what: v.picklist(['opened', 'asked', 'ended', 'settled', 'bag-held', 'bag-erased']),
  reason: v.optional(v.string()),
  run: v.optional(v.number()),
  action: v.optional(v.string()),
  label: v.optional(v.string()),
  state: v.optional(v.string()),
  asked: v.optional(v.object({ messages: v.number(), bytes: v.number() })),
  done: v.optional(v.object({ messages: v.number(), bytes: v.number() })),
  /** Whether the entry is what was written. */
  sound: v.boolean(),
});

/** A message that says that the mailbox is full, and whether it comes from the host. */
export const FullWarning = v.object({
  id: v.number(),
  subject: v.string(),
  from: v.object({ name: v.string(), address: v.string() }),
  received: v.string(),
  folder: v.string(),
  /** Null: not looked at yet. */
  judged: v.nullable(
    v.object({
      verdict: v.picklist(['genuine', 'not-genuine', 'unclear']),
      signs: v.array(v.picklist(WARNING_SIGNS)),
      /** Of the author. */
      domain: v.string(),
      /** Hosts to which its links lead, but for the own ones. */
      foreign: v.array(v.string()),
      /** Shares of the limit: what it says, and what the server said then. */
      said: v.nullable(v.number()),
      was: v.nullable(v.number()),
    }),
  ),
});

export const SignedIn = v.object({ account: v.pick(AccountBrief, ['id', 'user', 'host']) });

export const Target = v.union([
  v.strictObject({ share: v.pipe(v.number(), v.minValue(0.01), v.maxValue(1)) }),
  v.strictObject({ bytes: v.pipe(v.number(), v.integer(), v.minValue(0)) }),
  v.strictObject({ messages: v.pipe(v.number(), v.integer(), v.minValue(0)) }),
]);

const timeZone = v.pipe(
  v.string(),
  v.check((name) => {
    try {
      new Intl.DateTimeFormat('en', { timeZone: name });
      return true;
    } catch {
      return false;
    }
  }, 'the IANA name of a time zone'),
);

const share = v.pipe(v.number(), v.minValue(0.01), v.maxValue(1));
const Thresholds = v.strictObject({
  warning: v.optional(share),
  sending: v.optional(share),
  receiving: v.optional(share),
});

/** Paths of folders that the server does not mark by what they are for. */
const Roles = v.strictObject(
  v.entriesFromList(CHOSEN_ROLES, v.optional(v.nullable(v.pipe(v.string(), v.minLength(1))))),
);

const KeepRules = v.pipe(
  v.array(v.picklist(KEEP_RULES)),
  v.check((rules) => new Set(rules).size === KEEP_RULES.length && rules.length === KEEP_RULES.length, 'each rule once'),
);

export const SettingsChange = v.strictObject({
  target: v.optional(Target),
  limit: v.optional(v.nullable(v.pipe(v.number(), v.integer(), v.minValue(1)))),
  trashFolder: v.optional(v.nullable(v.pipe(v.string(), v.minLength(1)))),
  roles: v.optional(Roles),
  trashDays: v.optional(v.nullable(v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(3_650)))),
  thresholds: v.optional(Thresholds),
  timeZone: v.optional(timeZone),
  units: v.optional(v.picklist(['binary', 'decimal'])),
  mailWhen: v.optional(v.picklist(['never', 'long', 'always'])),
  /** An address is confirmed by a code first (`mail-address`); null: no mail is sent any more. */
  mailTo: v.optional(v.null()),
  mailNewBrowser: v.optional(v.boolean()),
  /** A mail tells when so large a share of the limit is in use. */
  mailAbove: v.optional(v.nullable(v.pipe(v.number(), v.minValue(0.01), v.maxValue(1)))),
  /** A mail of three sentences, on the first of each month. */
  mailMonthly: v.optional(v.boolean()),
  scanEveryHours: v.optional(v.nullable(v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(720)))),
  /** What decides which copy of a message stays: each rule once. */
  keepRules: v.optional(KeepRules),
});

export const Settings = v.object({
  target: Target,
  limit: v.nullable(v.number()),
  trashFolder: v.nullable(v.string()),
  roles: v.nullable(Roles),
  trashDays: v.nullable(v.number()),
  thresholds: Thresholds,
  timeZone: v.string(),
  units: v.picklist(['binary', 'decimal']),
  mailWhen: v.picklist(['never', 'long', 'always']),
  mailTo: v.nullable(v.string()),
  mailNewBrowser: v.boolean(),
  mailAbove: v.nullable(v.number()),
  mailMonthly: v.boolean(),
  scanEveryHours: v.nullable(v.number()),
  keepRules: KeepRules,
  /** Whether the operator has configured a submission server. */
  canMail: v.boolean(),
});

export const Category = v.picklist(CATEGORIES);
export const GroupedBy = v.picklist(GROUPINGS);
export const CorrectionBy = v.picklist(['address', 'domain']);
export const SavedFilter = v.object({ id: count, name: v.string(), where: v.string() });

const progress = v.object({ done: count, total: count });
export const ProblemNote = v.object({ kind: v.string(), detail: v.string() });
/** Why work is not being done now: tried again later, after other work of the mailbox, of its host, or after other large mailboxes; or no worker took it yet. */
export const Waits = v.optional(v.picklist(['later', 'turn', 'host', 'large', 'worker']));

export const Scan = v.object({
  id: count,
  state: v.picklist(['queued', 'running', 'done', 'failed']),
  folders: progress,
  /** Of the stage under way. */
  messages: progress,
  /** Each stage is whole before the next begins, and what it read is final then. */
  stage: v.picklist(['level', 'outline', 'details', 'finalizing']),
  /** Sums of the outline, the trash left out, once it is whole; of mailboxes that are read at once there is none. */
  outline: v.optional(
    v.object({
      messages: count,
      bytes: count,
      sizes: v.array(v.object({ from: count, messages: count, bytes: count })),
    }),
  ),
  problem: v.optional(ProblemNote),
  waits: Waits,
  createdAt: Timestamp,
  endedAt: v.optional(Timestamp),
});

export const Search = v.object({
  id: count,
  text: v.string(),
  state: v.picklist(['queued', 'running', 'done', 'failed']),
  folders: progress,
  problem: v.optional(ProblemNote),
});

export const Level = v.object({
  limit: v.nullable(v.number()),
  limitBy: v.nullable(v.picklist(['server', 'user'])),
  used: count,
  usedBy: v.picklist(['server', 'counted']),
  messageLimit: v.optional(count),
  messagesUsed: v.optional(count),
  target: Target,
  targetBytes: v.nullable(v.number()),
  mail: Amount,
  trash: Amount,
  /** Of the trash what a guard keeps: it stays when the rest is purged. */
  trashGuarded: Amount,
  /** Folders with messages that no scan has read yet. */
  unread: v.number(),
  plan: Amount,
  after: count,
  /** Messages left then; the server's count where it limits them. */
  afterMessages: count,
  other: count,
  difference: v.number(),
  /** Of what is not mail: files of file spaces that count; where one is known. */
  space: v.optional(
    v.object({
      files: v.object({ files: count, bytes: count }),
      pictures: v.object({ files: count, bytes: count }),
      /** What others share: it does not count. */
      shared: v.object({ files: count, bytes: count }),
      /** What lies in the trash of file spaces, and what lots of files hold besides: both go before what `after` says. */
      trash: v.object({ files: count, bytes: count, pictureBytes: count }),
      plan: v.object({ files: count, bytes: count, pictureBytes: count }),
      /** In use, and neither mail nor file; below zero where the host counts less than there is. */
      unexplained: v.number(),
      /** Whether the host said what is in use to the octet. */
      toTheOctet: v.boolean(),
      /** Whether all of it was listed. */
      complete: v.boolean(),
    }),
  ),
  /** The roots of the quota, where there are several. */
  roots: v.array(
    v.object({ name: v.string(), used: v.nullable(v.number()), limit: v.nullable(v.number()), counted: Amount }),
  ),
  /** The sum with each message counted once; where the server counts less than all copies together. */
  once: v.optional(count),
  folders: v.array(
    v.object({
      path: v.string(),
      role: v.nullable(v.picklist(['inbox', 'sent', 'drafts', 'junk', 'trash', 'archive'])),
      /** `name`: proposed, and not confirmed yet. */
      roleBy: v.nullable(v.picklist(['server', 'name', 'user'])),
      messages: count,
      bytes: count,
      repeats: v.boolean(),
    }),
  ),
  readings: v.array(v.object({ at: Timestamp, used: count })),
  /** Of the index: `asOf` of a run that is to touch what was shown and nothing later. */
  version: count,
  at: Timestamp,
});

const Monthly = v.object({ mean: count, spread: count });

const Course = v.object({ low: count, likely: count, high: count });

export const Forecast = v.object({
  at: Timestamp,
  /** Whether all folders were read; before that nothing is told. */
  complete: v.boolean(),
  /** Months that are over, the oldest first: what came in then and is still there, the trash left out. */
  months: v.array(v.object({ from: Timestamp, messages: count, bytes: count })),
  /** Of one month, of mail and what is not mail together; null by less than three months. */
  growth: v.nullable(v.object({ bytes: Monthly, messages: Monthly, months: count })),
  /** What the server's figure holds beyond the mail, and its growth by readings; that is null by less than four months of them: then it counts as staying as it is. */
  notMail: v.object({ bytes: count, growth: v.nullable(v.object({ mean: count, spread: count, months: count })) }),
  /** Of each category in one month. */
  categories: v.array(v.object({ category: Category, messages: count, bytes: count })),
  /** `sending`: the host sends nothing more. `receiving`: nothing comes in. Each where it is known at how much. */
  dates: v.array(
    v.object({
      what: v.picklist(['sending', 'receiving', 'full', 'full-messages']),
      /** Octets; of `full-messages`, messages. */
      at: count,
      earliest: v.nullable(Timestamp),
      likely: v.nullable(Timestamp),
      latest: v.nullable(Timestamp),
    }),
  ),
  used: count,
  limit: v.nullable(count),
  /**
   * What each standing lot moves, one after the other: when it is full with this one and those before, once what they take is purged.
   * `isOn` is false of one that does not go by itself yet.
   */
  changes: v.array(v.object({ standing: count, label: v.string(), isOn: v.boolean(), likely: v.nullable(Timestamp) })),
  /** Octets in use with all of these, now and after each month to come; empty without any. */
  changed: v.array(count),
  /** Octets in use now, and after each month to come. */
  course: v.array(Course),
});

const author = v.object({ name: v.string(), address: v.string() });

export const Message = v.object({
  id: count,
  folder: v.string(),
  uid: count,
  from: v.nullable(author),
  subject: v.string(),
  date: v.nullable(Timestamp),
  received: Timestamp,
  size: count,
  flags: v.array(v.string()),
  category: Category,
  keywords: v.array(v.string()),
  files: v.array(v.object({ name: v.string(), type: v.string(), size: count })),
  flaws: v.array(v.string()),
  origin: v.nullable(v.string()),
  trashedBy: v.nullable(v.number()),
  /** When it came into its folder, as far as is known. */
  placedAt: v.nullable(Timestamp),
  /** Of a message of the archive: the bag that holds it. `folder` and `uid` are those that it had when it was saved. */
  bag: v.optional(count),
});

export const MessageDetails = v.object({
  ...Message.entries,
  messageId: v.string(),
  references: v.array(v.string()),
  to: v.array(author),
  listId: v.string(),
  bulkFields: v.record(v.string(), v.string()),
  reasons: v.array(v.string()),
  header: v.nullable(v.string()),
});

/** Files, and their octets. */
export const FileAmount = v.object({ files: count, bytes: count });

/** What lies in the archive on this machine, and how safe it is. */
export const Archive = v.object({
  ...Amount.entries,
  /** Files that were saved by themselves. */
  files: FileAmount,
  /** Messages whose words are still being read: a search for a text does not find them yet. */
  unread: count,
  /** Messages of whose text only the beginning is searched, or that could not be read. */
  partly: count,
  /** When the bag was read back for which that is longest ago. */
  checkedAt: v.nullable(Timestamp),
  /** Messages and files that are not any more what was saved. */
  damaged: FileAmount,
  /** Messages and files without a checked copy elsewhere. */
  onlyHere: FileAmount,
  /** Octets that are free on the disk; null where that can't be told. */
  free: v.nullable(count),
});

/** A message of the archive, as it was. */
export const ArchivedDetails = v.object({
  ...Message.entries,
  messageId: v.string(),
  sha256: v.string(),
  /** Whether its octets on the disk are not any more what was saved. */
  damaged: v.boolean(),
  to: v.array(author),
  header: v.string(),
  /** Decoded, cut at a limit; '' where it has none. */
  text: v.string(),
  /** With their sections of the message. */
  files: v.array(v.object({ part: v.string(), name: v.string(), type: v.string(), size: count })),
});

export const File = v.object({
  id: count,
  /** A message that has it. */
  message: count,
  folder: v.string(),
  name: v.string(),
  type: v.string(),
  kind: v.picklist(FILE_KINDS),
  /** As it counts in the mailbox. */
  size: count,
  /** Decoded, as far as the encoded size tells. */
  decoded: count,
  /** Section of the message (RFC 9051). */
  part: v.string(),
  /** Whether it is inside a message that is enclosed in another. */
  enclosed: v.boolean(),
  from: v.nullable(author),
  subject: v.string(),
  date: v.nullable(Timestamp),
  /** Whether a copy is outside the mailbox, and whether it was read back and was equal. */
  copy: v.picklist(COPIES),
});

/** A set of files that is kept outside the mailbox (RFC 8493). */
const RunState = v.picklist(RUN_STATES);

export const Bag = v.object({
  id: count,
  label: v.string(),
  /** What its folder is called. */
  folder: v.string(),
  /** Each file by itself, or messages in mbox files. */
  form: v.picklist(['files', 'mbox']),
  place: v.picklist(['here', 'download']),
  state: v.picklist(['receiving', 'queued', 'running', 'checking', 'paused', 'done', 'cancelled', 'failed', 'erased']),
  /** Octets as they count in the mailbox. */
  asked: FileAmount,
  /** Octets on the disk. */
  saved: FileAmount,
  checked: FileAmount,
  left: v.array(
    v.object({ reason: v.picklist(['vanished', 'differs', 'unreadable', 'cancelled']), ...FileAmount.entries }),
  ),
  problem: v.optional(ProblemNote),
  waits: Waits,
  createdAt: Timestamp,
  endedAt: v.optional(Timestamp),
  /** When every octet was last read back from the disk. */
  checkedAt: v.optional(Timestamp),
  /** Until when what was made ready for a download can be downloaded. */
  keptUntil: v.optional(Timestamp),
  /** What is not any more what was saved, and which of its manifests are not. */
  damaged: FileAmount,
  tagsDamaged: v.array(v.string()),
  /** While it is read again, how many files or messages were. */
  readAgain: v.nullable(count),
  /** Somebody wants it read again, and that has not begun. */
  isReadAsked: v.boolean(),
  /** What has no checked copy elsewhere. */
  onlyHere: FileAmount,
  /** The day before which nobody can delete it, and why. */
  heldUntil: v.nullable(Day),
  heldReason: v.nullable(v.string()),
  /** The run that archives its messages, and what it brought to the trash; null of one that leaves the mailbox as it is. */
  run: v.nullable(v.object({ id: count, state: RunState, done: Amount })),
  /** The file that was saved elsewhere and is brought in: its octets, and how many of them are here; what it is; how much of it was gone through, from 0 to 1; files in it that are no mail; messages of which something is missing or can't be read. */
  brought: v.nullable(
    v.object({
      name: v.string(),
      size: count,
      received: count,
      format: v.nullable(v.picklist(['mbox', 'tar', 'zip', 'message'])),
      quoting: v.nullable(v.picklist(QUOTINGS)),
      done: v.number(),
      passed: count,
      flawed: count,
    }),
  ),
});

/** How every message of the last years is saved under a hold every night, and what is kept so. */
export const RetentionState = v.object({
  retention: v.nullable(
    v.object({
      years: count,
      reason: v.string(),
      begunAt: Timestamp,
      nextAt: Timestamp,
      /** When all that was there was last saved. */
      lastAt: v.optional(Timestamp),
      problem: v.optional(ProblemNote),
    }),
  ),
  kept: Amount,
});

/** What of a bag is not any more what was saved. */
export const DamagedFile = v.object({
  file: count,
  /** Below `data/`. */
  path: v.string(),
  /** In an mbox file, where it begins and how many octets it takes. */
  at: v.nullable(count),
  length: v.nullable(count),
  size: count,
  sha256: v.string(),
  damagedAt: Timestamp,
  subject: v.string(),
  received: Timestamp,
  /** Where it can be repaired from. */
  sources: v.array(v.picklist(['archive', 'mailbox', 'trash'])),
});

export const BagFile = v.object({
  file: count,
  /** Below `data/`. */
  path: v.optional(v.string()),
  /** Octets on the disk. */
  size: v.optional(count),
  sha256: v.optional(v.string()),
  /** Octets in the mailbox. */
  encoded: count,
  checkedAt: v.optional(v.nullable(Timestamp)),
  /** Why it is not in the bag. */
  reason: v.optional(v.string()),
});

/** What a copy that was handed in comes to. */
export const CopyCheck = v.object({ checked: count, differs: v.array(v.string()), unknown: v.array(v.string()) });

export const Sender = v.object({
  key: v.string(),
  name: v.string(),
  names: v.array(v.string()),
  messages: count,
  bytes: count,
  month: v.number(),
  first: Timestamp,
  last: Timestamp,
  unseen: count,
  answered: count,
  flagged: count,
  written: count,
  /** 0 to 100, over the whole mailbox, and its reasons from the strongest. */
  evidence: count,
  reasons: v.array(v.object({ reason: v.string(), number: v.number() })),
});

/** What happens to the messages of a lot. `archive`: they are saved and read back before they go to the trash; `strip`: files are taken out of them; `shrink`: pictures are made smaller. The rest stays. */
export const Fate = v.picklist(FATES);

/** How pictures are made smaller: points of the longer side, and whether the place where they were taken stays in them. */
export const Shrinking = v.object({
  longest: v.picklist(SHRUNK_LENGTHS),
  place: v.optional(v.picklist(['keep', 'remove']), 'keep'),
});

export const Lot = v.object({
  id: count,
  label: v.string(),
  fate: Fate,
  where: v.nullable(v.string()),
  /** The key of the suggestion that it was taken from. */
  suggestion: v.nullable(v.string()),
  messages: count,
  bytes: count,
  excepted: count,
  guarded: Amount,
  /** How pictures are made smaller, for `shrink`; `bytes` and `adds` are estimates then. */
  shrinking: v.nullable(Shrinking),
  /** Files that are taken out or made smaller; 0 where whole messages go. */
  files: count,
  /** Of these, files without a checked copy outside the mailbox: they can't be taken out yet. */
  unchecked: count,
  /** Messages that a guard keeps from being deleted, but not from losing files. */
  textKept: count,
  vanished: count,
  adds: Amount,
  only: Amount,
  createdAt: Timestamp,
});

/**
 * On which days something is done by itself: every so many days, weeks or months. `day` is the day of the week (1 is Monday), or of
 * the month; a shorter month has it on its last day. `at` is the time by the clock of the account.
 */
export const Rhythm = v.pipe(
  v.object({
    unit: v.picklist(RHYTHM_UNITS),
    every: v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(120)),
    day: v.nullable(v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(31))),
    from: Day,
    at: v.pipe(v.string(), v.regex(/^([01]\d|2[0-3]):[0-5]\d$/, 'a time such as 03:00')),
  }),
  v.check(
    ({ unit, day }) => (unit === 'day') === (day === null) && (unit !== 'week' || (day ?? 0) <= 7),
    'day from 1 to 7 of a week, from 1 to 31 of a month, and null of days',
  ),
);

const Cared = { seen: count, answered: count, flagged: count };

/** What a standing lot would have taken in the past, of what is still there and no guard protects. Flags are as they are now. */
export const Trial = v.object({
  now: v.object({ ...Amount.entries, ...Cared }),
  /** What came to it in each month that is over, the oldest first. */
  months: v.array(v.object({ from: Timestamp, ...Amount.entries, ...Cared })),
  /** Messages among them that are flagged, answered or read, in this order; not more than 200. */
  cared: v.array(count),
});

export const StandingLot = v.object({
  id: count,
  label: v.string(),
  where: v.string(),
  fate: v.picklist(STANDING_FATES),
  rhythm: Rhythm,
  /** `draft`: it does not go by itself yet. `on`: it does. `off`: somebody stopped it. `stopped`: it stopped itself. */
  state: v.picklist(['draft', 'on', 'off', 'stopped']),
  trial: v.optional(Trial),
  triedAt: v.optional(Timestamp),
  /** Takes it more messages than this at one date, it asks first; so it does above twice what the trial foresaw. */
  most: v.nullable(count),
  /** How many messages the next date takes without asking. */
  ceiling: v.optional(count),
  purgeAfterDays: v.nullable(count),
  mail: v.boolean(),
  nextOn: v.optional(Day),
  nextAt: v.optional(Timestamp),
  failures: count,
  createdAt: Timestamp,
  /** The newest dates, the newest first. `asking`: its lot is in the plan. `declined`: it was dropped there, or cancelled. */
  dates: v.array(
    v.object({
      day: Day,
      state: v.picklist(['scanning', 'saving', 'asking', 'running', 'done', 'nothing', 'failed', 'declined']),
      messages: count,
      bytes: count,
      ceiling: v.optional(count),
      lot: v.optional(count),
      run: v.optional(count),
      /** The run that purged what it brought to the trash. */
      purge: v.optional(count),
      problem: v.optional(ProblemNote),
      endedAt: v.optional(Timestamp),
    }),
  ),
});

/** How far a reading is: of messages, files, pictures, or the texts of threads. `messages` are files where these are read. */
export const Proof = v.object({
  what: v.picklist(READINGS),
  state: v.picklist(['queued', 'running', 'done', 'failed']),
  /** Octets that are read at most. */
  budget: count,
  total: v.object({ messages: count, bytes: count }),
  done: v.object({ messages: count, bytes: count }),
  problem: v.optional(ProblemNote),
  endedAt: v.optional(Timestamp),
});

/** A message that was proven to exist more than once. */
export const TwinGroup = v.object({
  /** The lowest id of its copies. */
  id: count,
  subject: v.string(),
  from: v.nullable(author),
  date: v.nullable(Timestamp),
  going: Amount,
  copies: v.array(
    v.object({
      id: count,
      folder: v.string(),
      size: count,
      received: Timestamp,
      /** `marked`: the plan or a run takes it. */
      state: v.picklist(['stays', 'goes', 'guarded', 'marked']),
      /** Of the one that stays: the rule by which it does. */
      why: v.optional(v.picklist(KEEP_REASONS)),
      /** How it was proven to be the same as the one that stays. `server`: the server says that it is one message. */
      same: v.optional(v.picklist(['server', 'octets', 'transport', 'content'])),
    }),
  ),
  /** Copies that are not among these, of a message with very many. */
  more: count,
});

/** What was proven to exist more than once; `going`: copies that can go. */
const ProvenCopies = v.object({ groups: count, going: Amount });

/** Files with the same octets in several messages; `going`: those that can go. */
const ProvenFiles = v.object({ groups: count, going: FileAmount });

/** Both. */
export const Proven = v.object({ twins: ProvenCopies, files: ProvenFiles });

/** A message among others, as it is told. */
const told = {
  subject: v.string(),
  from: v.nullable(author),
  date: v.nullable(Timestamp),
  folder: v.string(),
};

/** A file that was proven to lie in several messages. */
export const FileGroup = v.object({
  /** The lowest id of these files. */
  id: count,
  name: v.string(),
  type: v.string(),
  kind: v.picklist(FILE_KINDS),
  /** As it counts in each message, about. */
  size: count,
  /** Of its decoded octets, in hexadecimal digits. */
  sha256: v.string(),
  going: FileAmount,
  copies: v.array(
    v.object({
      file: count,
      /** A message that has it. */
      message: count,
      ...told,
      size: count,
      /** `marked`: the plan or a run takes it, or its message. */
      state: v.picklist(['stays', 'goes', 'guarded', 'marked']),
      why: v.optional(v.picklist(KEEP_REASONS)),
    }),
  ),
  more: count,
});

/** A file that was proven to lie in a file space and in messages. */
export const DoubledGroup = v.object({
  /** The lowest id of the files of messages. */
  id: count,
  name: v.string(),
  bytes: count,
  sha256: v.string(),
  /** Where it lies in file spaces, for a person; `stays`: no message would have it any more. */
  places: v.array(
    v.object({ file: count, space: count, path: v.string(), state: v.picklist(['goes', 'stays', 'marked']) }),
  ),
  /** What going out of messages wins, and what going out of file spaces would. */
  going: FileAmount,
  goingThere: FileAmount,
  copies: v.array(
    v.object({
      file: count,
      /** A message that has it. */
      message: count,
      ...told,
      size: count,
      state: v.picklist(['goes', 'guarded', 'marked', 'stays']),
    }),
  ),
  more: count,
});

/** Pictures nearly alike. */
export const PictureSeries = v.object({
  /** The file that is proposed to stay, and why. */
  best: count,
  why: v.picklist(['sharpest', 'largest', 'first']),
  pictures: v.array(
    v.object({
      file: count,
      message: count,
      ...told,
      name: v.string(),
      size: count,
      width: count,
      height: count,
      /** How sharp it is, as a share of the best. */
      sharpness: v.number(),
      /** Whether a guard protects its message. */
      guarded: v.boolean(),
    }),
  ),
});

/** A message that a later one quotes in full. */
export const Echo = v.object({
  id: count,
  ...told,
  size: count,
  state: v.picklist(['stays', 'goes', 'guarded', 'marked']),
  /** The message that holds it, where one stays. */
  holder: v.optional(v.object({ id: count, ...told })),
});

/** What exists more than once. */
export const Repeats = v.object({
  /** By the index alone; `different`: groups that were read, of which some are not the same. */
  candidates: v.object({
    groups: count,
    messages: count,
    bytes: count,
    different: count,
    /** What still has to be read. */
    unread: Amount,
  }),
  twins: ProvenCopies,
  /** What was not read yet, of what may be: files that lie in several messages, pictures nearly alike, messages of threads. */
  unread: v.object({ files: FileAmount, pictures: FileAmount, threads: Amount, spaces: FileAmount }),
  files: ProvenFiles,
  /** `beside`: those beside the best of each series. */
  pictures: v.object({ series: count, beside: FileAmount }),
  /** Files of messages that a file space has too. */
  /** `goingThere`: what could go out of file spaces instead. */
  spaces: v.object({ ...ProvenFiles.entries, goingThere: FileAmount }),
  /** Whether the account has a file space. */
  hasSpaces: v.boolean(),
  /** Messages that a later one quotes in full. */
  echoes: v.object({ threads: count, going: Amount, guarded: Amount }),
  /** Folders most of whose messages lie in another one too; `in` is null where they lie in several. */
  folders: v.array(
    v.object({
      path: v.string(),
      in: v.nullable(v.string()),
      messages: count,
      both: count,
      going: Amount,
      /** Whether its name says that programs put there what they disagreed on. */
      conflicts: v.boolean(),
    }),
  ),
  /** Messages and files of lots that promised that another one stays, where none would. */
  broken: count,
  proofs: v.array(Proof),
});

/** A sender whose messages say how one stops getting them, what it sent in the last year, and what came of asking it. */
export const BulkSender = v.object({
  /** The author's address; of a list that people write to, its identifier. */
  sender: v.string(),
  name: v.string(),
  messages: count,
  bytes: count,
  last: Timestamp,
  /** How it can be asked; `page`: by hand alone. Left out while its newest message was not read. */
  way: v.optional(v.picklist(['one-click', 'mail', 'page', 'none'])),
  /** Why Tamsel does not ask it: an answer tells a forger that the address lives. */
  why: v.optional(v.picklist(['in-junk', 'failed-authentication', 'not-authenticated', 'not-signed'])),
  /** Where a person can do it by hand. Nothing of Tamsel opens it. */
  page: v.optional(v.string()),
  /** The mail that would be sent. */
  mail: v.optional(v.object({ to: v.string(), subject: v.string(), body: v.string() })),
  /** `unclear`: it was asked, and nobody knows whether it was heard. */
  state: v.optional(v.picklist(['queued', 'sending', 'asked', 'failed', 'unclear'])),
  how: v.optional(v.picklist(['one-click', 'mail'])),
  askedAt: v.optional(Timestamp),
  problem: v.optional(ProblemNote),
  /** What came since it was asked. */
  since: v.optional(v.object({ messages: count, last: v.optional(Timestamp) })),
});

/** Rules for mail to come, and the scripts of the account as its server has them. */
export const Rules = v.object({
  rules: v.array(
    v.object({
      id: count,
      label: v.string(),
      where: v.string(),
      folder: v.string(),
      /** Whether the folder is gone since: what the rule takes stays in the inbox then. */
      isFolderGone: v.boolean(),
      madeAt: Timestamp,
    }),
  ),
  /** Whether the server runs them now; false where another program has made another script the active one. */
  running: v.boolean(),
  /** Changes with whatever another program changes; for `expect`. */
  mark: v.string(),
  /** The person's own script, which stays as it is. */
  own: v.nullable(v.string()),
  /** Whether the server can include it; else the rules are a marked part of it. */
  includes: v.boolean(),
  /** What their own script throws away already, in words; null where it can't be read. */
  loses: v.nullable(v.array(v.object({ what: v.picklist(['discard', 'reject', 'trash']), when: v.array(v.string()) }))),
  /** When the script was kept that was active before these rules were. */
  keptAt: v.nullable(Timestamp),
});

/** What a rule would have filed in the last year, by our own reading of its criteria. */
export const RuleTrial = v.object({
  /** The test as the server gets it (RFC 5228). */
  test: v.string(),
  past: Amount,
  seen: count,
  examples: v.array(count),
});

export const Guard = v.object({
  id: count,
  kind: v.picklist(GUARD_KINDS),
  where: v.string(),
  years: v.nullable(count),
  reason: v.string(),
  active: v.boolean(),
  madeAt: Timestamp,
  liftedAt: v.nullable(Timestamp),
  liftReason: v.nullable(v.string()),
  /** What it keeps now. */
  messages: count,
  bytes: count,
});

const mark = v.nullable(
  v.object({
    used: v.nullable(v.number()),
    counted: count,
    /** Octets of the files that count, where a file space is known that shares the quota. */
    files: v.optional(count),
    at: Timestamp,
  }),
);

export const Run = v.object({
  id: count,
  action: v.picklist([...FATES, 'restore', 'put-back']),
  /** The account whose archive it puts messages back from. */
  archiveOf: v.nullable(count),
  /** Of a run that archives: the bag that it writes; null where all of its messages lay in one already. */
  bag: v.nullable(count),
  /** How it makes pictures smaller. */
  shrinking: v.nullable(Shrinking),
  /** The file space on whose files it works; its amounts count files as `messages` then. Null: it works on messages. */
  space: v.nullable(count),
  state: RunState,
  label: v.string(),
  selector: v.record(v.string(), v.unknown()),
  asked: Amount,
  done: Amount,
  /** Of a run that takes files out, or makes pictures smaller: what was put in the place of the messages that went. */
  added: Amount,
  left: v.array(v.object({ reason: v.string(), messages: count, bytes: count })),
  before: mark,
  after: mark,
  /** The server's figure once it had followed a purge. */
  settled: mark,
  askedBy: v.object({
    user: v.optional(v.string()),
    /** `standing`: a standing lot, by itself. `round`: an operator, in several mailboxes at once. */
    via: v.optional(v.picklist(['page', 'script', 'standing', 'round'])),
    /** The number of the token that the script came with. */
    token: v.optional(v.number()),
    /** The number of the standing lot, and the date that it was for. */
    standing: v.optional(v.number()),
    day: v.optional(Day),
    /** The number of the operator’s round. */
    round: v.optional(v.number()),
  }),
  /** What it brought to the trash and lies there still: what can be taken back. */
  undo: Amount,
  /** Milliseconds of work. */
  workedMs: count,
  /** Whether the tables and the run's entries in the ledger say the same. What is shown is what the entries say. */
  agreement: v.optional(v.picklist(['agrees', 'differs', 'broken'])),
  /** What it is doing now, and with how many messages. */
  doing: v.optional(
    v.object({
      phase: v.picklist([
        'measuring',
        'saving',
        'putting-back',
        'recovering',
        'planning',
        'checking',
        'taking-out',
        'carrying-out',
        'concluding',
      ]),
      messages: count,
    }),
  ),
  problem: v.optional(ProblemNote),
  waits: Waits,
  createdAt: Timestamp,
  startedAt: v.optional(Timestamp),
  endedAt: v.optional(Timestamp),
});

export const Decision = v.object({
  by: GroupedBy,
  key: v.string(),
  decision: v.string(),
  where: v.string(),
  lot: v.nullable(v.number()),
  guard: v.nullable(v.number()),
  decidedAt: Timestamp,
});

/** What a decision sheet would do, and what is wrong or doubtful in it. */
export const SheetReading = v.object({
  decisions: v.array(
    v.object({ line: v.number(), by: GroupedBy, key: v.string(), decision: v.string(), messages: v.number() }),
  ),
  issues: v.array(
    v.object({ line: v.number(), note: v.picklist(SHEET_NOTES), cell: v.string(), refused: v.boolean() }),
  ),
  total: Amount,
  applied: v.boolean(),
});

/** What lies in the trash, by what brought it there. */
export const Trash = v.object({
  /** Path; null where the mailbox has none. */
  folder: v.nullable(v.string()),
  /** Days after which the server drops what lies in it, as the user states it. */
  days: v.nullable(v.number()),
  groups: v.array(
    v.object({
      ...Amount.entries,
      run: v.nullable(v.number()),
      label: v.nullable(v.string()),
      first: v.nullable(Timestamp),
      last: v.nullable(Timestamp),
      /** Messages of which nobody knows when they went in. */
      undated: v.number(),
      /** Its lots, of a run that had several. */
      lots: v.array(v.object({ ...Amount.entries, id: v.number(), label: v.string() })),
      /** When the server is expected to drop the first and the last of it. */
      dropped: v.nullable(v.object({ first: Timestamp, last: Timestamp })),
    }),
  ),
});

/** The newest entry of the ledger's chain. */
export const LedgerHead = v.object({ entries: v.number(), code: v.string(), at: v.nullable(Timestamp) });

export const LedgerCheck = v.object({ entries: v.number(), faults: v.array(v.string()), head: LedgerHead });

/** A sender of the outline of a scan. */
export const FirstRanked = v.object({
  key: v.string(),
  name: v.string(),
  messages: v.number(),
  bytes: v.number(),
  unseen: v.number(),
  first: Timestamp,
  last: Timestamp,
});

/** A message of a lot; of one that guards keep, which guards, and whether it is allowed all the same. */
export const LotMessage = v.object({
  ...Message.entries,
  guards: v.optional(v.array(v.number())),
  allowed: v.optional(v.boolean()),
});

export const Token = v.object({
  id: v.number(),
  name: v.string(),
  /** Whether it may change anything; else it only reads. */
  acts: v.boolean(),
  endsAt: Timestamp,
  madeAt: Timestamp,
  usedAt: v.nullable(Timestamp),
});

/** A browser that is signed in to an account. */
export const Session = v.object({
  id: v.number(),
  agent: v.string(),
  since: Timestamp,
  seenAt: Timestamp,
  isOwn: v.boolean(),
});

/** A mail server that was found for an address. */
export const FoundServer = v.object({
  host: v.string(),
  port: v.number(),
  security: v.picklist(['tls', 'starttls']),
  user: v.string(),
  /** The operator's list, SRV records, what the domain publishes, or a usual name at which a server answered. */
  how: v.picklist(['list', 'dns', 'config', 'guess']),
  /** Whether its name lies in the domain of the address: where not, somebody should look at it (RFC 6186 §6). */
  within: v.boolean(),
});

/** The plan as sets of message ids, packed as text (core/sets/ranges), and what suggestions leave out. */
export const Plan = v.object({
  purge: v.string(),
  trash: v.string(),
  /** Messages that lose files. */
  strip: v.string(),
  /** Messages that guards of the user's own, and holds, keep from losing files. */
  kept: v.string(),
  dismissed: v.array(v.string()),
  later: v.array(v.object({ by: v.picklist(['address', 'domain', 'list']), key: v.string() })),
});

export const NewestMessage = v.object({ id: v.number(), subject: v.string(), date: Timestamp, size: v.number() });

/** What a person said of the category of a sender's mail. */
export const Correction = v.object({ by: CorrectionBy, key: v.string(), category: Category });

/** A code that is entered on another page to let Tamsel in (RFC 8628). */
export const DeviceCode = v.object({
  code: v.string(),
  url: v.string(),
  /** Seconds between two questions whether it was entered. */
  interval: v.number(),
  endsAt: Timestamp,
});

/** The lots of the plan, and what they hold together. */
export const LotList = v.object({ lots: v.array(Lot), total: Amount, guarded: Amount });

/** What a page shows before it has asked anything. */
export const FirstFigures = v.object({
  accounts: v.array(AccountBrief),
  /** The id of the account in view, of which the rest is. */
  account: v.number(),
  settings: Settings,
  level: Level,
  lots: LotList,
  scan: v.optional(Scan),
});
