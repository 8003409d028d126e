import * as v from 'valibot';
import { ROUND_KINDS, ROUND_STATES } from '../core/host/round';
import { MAILBOX_NOTES, MAX_NOTE } from '../core/host/sheet';
import { HOST_STATES } from '../core/host/state';
import { STANDING_FATES } from '../core/standing/terms';
import { ActOfOther, Amount, Day, Label, MailboxAt, OpeningReason, Rhythm, Security, Timestamp } from './schemas';

/** The shapes of the API for whoever looks after the mailboxes of a host. Sizes are octets, times RFC 3339 in UTC. */

/** Somebody who looks after mailboxes of others at a mail host. */
export const Operator = v.object({
  id: v.number(),
  user: v.string(),
  host: v.string(),
  port: v.number(),
  security: Security,
  state: v.picklist(['active', 'locked']),
  /** Whether the mailboxes are measured each day, also while nobody is signed in. */
  daily: v.boolean(),
});

export const OperatorSignIn = v.object({
  ...MailboxAt.entries,
  password: v.pipe(v.string(), v.minLength(1), v.maxLength(1_000)),
  /** A mailbox that the operator may open, for one who has none of their own. */
  mailbox: v.optional(v.pipe(v.string(), v.maxLength(320))),
  daily: v.optional(v.boolean()),
});

/** How much of a limit is in use: octets or messages. */
const Fill = v.object({
  used: v.number(),
  limit: v.nullable(v.number()),
  usedBy: v.picklist(['server', 'counted']),
  limitBy: v.nullable(v.picklist(['server', 'stated'])),
});

const HostCount = v.object({ messages: v.number(), bytes: v.nullable(v.number()) });

/** What a person states of a mailbox at a host. */
const StatedMailbox = v.object({
  bytes: v.nullable(v.number()),
  messages: v.nullable(v.number()),
  target: v.number(),
  leftOn: v.nullable(v.string()),
  catchesAll: v.boolean(),
});

/** A mailbox that an operator looks after, by its last measurement. */
export const HostMailbox = v.object({
  id: v.number(),
  user: v.string(),
  /** What follows the @ of its name; '' where there is none. */
  domain: v.string(),
  host: v.string(),
  port: v.number(),
  /** How an operator gets in: with their own password, with the mailbox's, or not yet. */
  way: v.picklist(['operator', 'password', 'none']),
  note: v.string(),
  stated: StatedMailbox,
  measuring: v.boolean(),
  problem: v.nullable(v.object({ kind: v.string(), detail: v.string() })),
  /** Everything that holds of it, the most urgent first. */
  states: v.array(v.picklist(HOST_STATES)),
  measured: v.nullable(
    v.object({
      at: v.string(),
      bytes: v.nullable(Fill),
      messages: Fill,
      /** Of the fuller of its limits; null without one. */
      share: v.nullable(v.number()),
      /** What must go to come down to the target. */
      excess: v.object({ messages: v.number(), bytes: v.number() }),
      notMail: v.nullable(v.number()),
      unseen: v.nullable(v.number()),
      trash: HostCount,
      junk: HostCount,
    }),
  ),
  /** What came to it over some days; null where these are too few. */
  grown: v.nullable(v.object({ messages: v.number(), bytes: v.number(), days: v.number() })),
  full: v.nullable(v.object({ at: v.string(), by: v.picklist(['bytes', 'messages']) })),
  /** The account through which it is open in this session; null where it is not. */
  account: v.nullable(v.number()),
});

export const HostMailboxes = v.object({
  operator: Operator,
  mailboxes: v.array(HostMailbox),
  /** How many are being measured, or wait for it. */
  measuring: v.number(),
});

/** Limits and notes that a person states of a mailbox; null takes one back. */
export const HostMailboxChange = v.strictObject({
  bytes: v.optional(v.nullable(v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(Number.MAX_SAFE_INTEGER)))),
  messages: v.optional(v.nullable(v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(Number.MAX_SAFE_INTEGER)))),
  target: v.optional(v.pipe(v.number(), v.minValue(0.01), v.maxValue(1))),
  note: v.optional(v.pipe(v.string(), v.maxLength(MAX_NOTE))),
  leftOn: v.optional(v.nullable(Day)),
  catchesAll: v.optional(v.boolean()),
  /** Of the mailbox itself; tried at its server before it is kept. */
  password: v.optional(v.pipe(v.string(), v.minLength(1), v.maxLength(1_000))),
});

export const NewHostMailbox = v.object({
  user: v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(320)),
  /** Without these it is at the operator’s server. */
  host: v.optional(v.pipe(v.string(), v.maxLength(253))),
  port: v.optional(v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(65_535))),
  security: v.optional(Security),
  password: v.optional(v.pipe(v.string(), v.minLength(1), v.maxLength(1_000))),
  note: v.optional(v.pipe(v.string(), v.maxLength(MAX_NOTE)), ''),
});

/** What a sheet of mailboxes says, and what is wrong in it. */
export const MailboxSheetReading = v.object({
  mailboxes: v.array(
    v.object({
      line: v.number(),
      user: v.string(),
      host: v.string(),
      port: v.number(),
      bytes: v.nullable(v.number()),
      messages: v.nullable(v.number()),
      note: v.string(),
      /** Whether it is looked after already: its line changes nothing. */
      there: v.boolean(),
      /** Whether it is at another server than the operator’s, and so needs a password of its own. */
      needsPassword: v.boolean(),
    }),
  ),
  issues: v.array(v.object({ line: v.number(), note: v.picklist(MAILBOX_NOTES), cell: v.string() })),
  /** How many were added; null where it was only read. */
  added: v.nullable(v.number()),
});

export const HostMeasurement = v.object({
  at: v.string(),
  bytes: v.nullable(v.number()),
  messages: v.number(),
  unseen: v.nullable(v.number()),
});

/** An act of an operator in a mailbox, as its ledger tells it. */
export const HostAct = v.object({ user: v.string(), ...ActOfOther.entries });

const Days = v.pipe(v.number(), v.integer(), v.minValue(0), v.maxValue(3_650));

/** What a round deletes: what lies in trash, in junk, or in both, longer than so many days. */
export const PurgeTerms = v.pipe(
  v.strictObject({
    days: Days,
    trash: v.boolean(),
    junk: v.boolean(),
    /** Whether what lies in the trash is taken by the day it was received, where the server does not tell when it went there. */
    byReceipt: v.optional(v.boolean(), false),
  }),
  v.check(({ trash, junk }) => trash || junk, 'trash, junk, or both'),
);

/** The standing lot that a round makes in each mailbox. */
export const StandingRoundTerms = v.strictObject({
  label: Label,
  where: v.pipe(v.string(), v.maxLength(10_000)),
  fate: v.optional(v.picklist(STANDING_FATES), 'trash'),
  rhythm: Rhythm,
  most: v.optional(v.nullable(v.pipe(v.number(), v.integer(), v.minValue(0), v.maxValue(2 ** 31 - 1))), null),
  purgeAfterDays: v.optional(v.nullable(Days), null),
});

const RoundMembers = {
  mailboxes: v.pipe(v.array(v.pipe(v.number(), v.integer(), v.minValue(1))), v.minLength(1), v.maxLength(100_000)),
  reason: OpeningReason,
};

/** One decision for several mailboxes, which are tried first. */
export const NewRound = v.variant('kind', [
  v.strictObject({ kind: v.literal('purge'), terms: PurgeTerms, ...RoundMembers }),
  v.strictObject({ kind: v.literal('empty'), terms: v.optional(v.strictObject({}), {}), ...RoundMembers }),
  v.strictObject({ kind: v.literal('standing'), terms: StandingRoundTerms, ...RoundMembers }),
]);

/** A round, and how its mailboxes stand. */
export const Round = v.object({
  id: v.number(),
  kind: v.picklist(ROUND_KINDS),
  terms: v.union([PurgeTerms, StandingRoundTerms, v.strictObject({})]),
  reason: v.string(),
  /** `trying`: the mailboxes are tried. `asking`: it waits for the operator. `ended`: nothing more comes; standing lots go on. */
  state: v.picklist(['trying', 'asking', 'working', 'ended', 'stopped']),
  createdAt: Timestamp,
  decidedAt: v.nullable(Timestamp),
  /** Numbers of mailboxes, by their state. */
  states: v.partial(v.object(v.entriesFromList(ROUND_STATES, v.number()))),
  /** What is to go from those that are ready or under way, and what went. */
  asked: Amount,
  done: Amount,
  /** How many of its standing lots are on, and what they took so far. */
  on: v.number(),
  taken: Amount,
});

export const RoundMailbox = v.object({
  mailbox: v.number(),
  user: v.string(),
  state: v.picklist(ROUND_STATES),
  /** What would go, by the trial. */
  ...Amount.entries,
  tried: v.nullable(
    v.object({
      /** Of a purge: what goes from either folder, messages that guards keep, and those of which nobody knows since when they lie there. */
      trash: v.optional(Amount),
      junk: v.optional(Amount),
      kept: v.optional(v.number()),
      undated: v.optional(v.number()),
      /** Of an emptying: messages that stay. */
      stays: v.optional(v.number()),
      /** Of a standing lot: what would come to it in a month, and messages among them that somebody flagged or answered. */
      monthly: v.optional(Amount),
      cared: v.optional(v.number()),
    }),
  ),
  done: Amount,
  problem: v.nullable(v.object({ kind: v.string(), detail: v.string() })),
});
