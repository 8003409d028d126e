import type { Category } from '../../core/categories/categories';
import type { GuardKind } from '../../core/guards/guards';
import type { Mark } from '../../core/ledger/balance';
import type { ChosenRoles } from '../../core/mailbox/roles';
import type { GroupingKind } from '../../core/senders/grouping';
import type { SheetNote } from '../../core/senders/sheet';

/** What the API gives, as docs/api.md and the OpenAPI document describe it. */
export interface Amount {
  messages: number;
  bytes: number;
}

export type Target = { share: number } | { bytes: number } | { messages: number };

export interface Settings {
  target: Target;
  limit: number | null;
  trashFolder: string | null;
  /** What folders are for, as the user confirmed; null before that. */
  roles: ChosenRoles | null;
  trashDays: number | null;
  /** Shares of the limit at which the host warns, and stops sending or receiving. */
  thresholds: { warning?: number; sending?: number; receiving?: number };
  timeZone: string;
  units: 'binary' | 'decimal';
  /** When a mail tells of the end of a scan or run, and where to; null is the mailbox itself. */
  mailWhen: 'never' | 'long' | 'always';
  mailTo: string | null;
  mailNewBrowser: boolean;
  scanEveryHours: number | null;
  canMail: boolean;
}

export interface AccountBrief {
  id: number;
  user: string;
  host: string;
  port: number;
  security: 'tls' | 'starttls' | 'none';
  state: 'active' | 'locked';
}

export interface FolderLevel extends Amount {
  path: string;
  role: string | null;
  /** `name`: proposed by its name, and not confirmed yet. */
  roleBy: 'server' | 'name' | 'user' | null;
  repeats: boolean;
}

export interface Level {
  limit: number | null;
  limitBy: 'server' | 'user' | null;
  used: number;
  usedBy: 'server' | 'counted';
  messageLimit?: number;
  messagesUsed?: number;
  target: Target;
  targetBytes: number | null;
  mail: Amount;
  trash: Amount;
  /** Of the trash what a guard keeps. */
  trashGuarded: Amount;
  /** Folders with messages that no scan has read yet. */
  unread: number;
  plan: Amount;
  after: number;
  afterMessages: number;
  other: number;
  difference: number;
  once?: number;
  roots: { name: string; used: number | null; limit: number | null; counted: Amount }[];
  folders: FolderLevel[];
  readings: { at: string; used: number }[];
  version: number;
  at: string;
}

/** Why work is not being done now. */
export type Wait = 'later' | 'turn' | 'host' | 'large' | 'worker';

export type ScanStage = 'level' | 'outline' | 'details' | 'settling';

export interface ScanState {
  id: number;
  state: 'queued' | 'running' | 'done' | 'failed';
  folders: { done: number; total: number };
  /** Of the stage under way. */
  messages: { done: number; total: number };
  stage: ScanStage;
  /** Sums, the trash left out; absent until the outline is whole. */
  outline?: { messages: number; bytes: number; sizes: { from: number; messages: number; bytes: number }[] } | null;
  problem?: { kind: string; detail: string };
  waits?: Wait;
  createdAt: string;
  endedAt?: string;
}

/** A sender of the outline of a scan. */
export interface FirstRanked {
  key: string;
  name: string;
  messages: number;
  bytes: number;
  unseen: number;
  first: string;
  last: string;
}

/** A text that the mail server is asked for. */
export interface SearchState {
  id: number;
  text: string;
  state: 'queued' | 'running' | 'done' | 'failed';
  folders: { done: number; total: number };
}

export interface Message {
  id: number;
  folder: string;
  uid: number;
  from: { name: string; address: string } | null;
  subject: string;
  date: string | null;
  received: string;
  size: number;
  flags: string[];
  keywords: string[];
  category: Category;
  files: { name: string; type: string; size: number }[];
  flaws: string[];
  origin: string | null;
  trashedBy: number | null;
  placedAt: string | null;
}

/** What went into the trash together. */
export interface TrashGroup extends Amount {
  run: number | null;
  label: string | null;
  first: string | null;
  last: string | null;
  undated: number;
  /** Its lots, of a run that had several. */
  lots: ({ id: number; label: string } & Amount)[];
  dropped: { first: string; last: string } | null;
}

export interface TrashState {
  folder: string | null;
  /** Days after which the server drops what lies in it, as the user states it. */
  days: number | null;
  groups: TrashGroup[];
}

/** The newest entry of the ledger's chain. */
export interface LedgerHead {
  entries: number;
  code: string;
  at: string | null;
}

export interface MessageDetails extends Message {
  to: { name: string; address: string }[];
  reasons: string[];
  header: string | null;
}

export interface Guard extends Amount {
  id: number;
  kind: GuardKind;
  where: string;
  years: number | null;
  reason: string;
  active: boolean;
  madeAt: string;
  liftedAt: string | null;
  liftReason: string | null;
}

/** A message of a lot that guards keep, with these guards, and whether it was let through. */
export interface GuardedMessage extends Message {
  guards?: number[];
  passed?: boolean;
}

export interface Decision {
  by: GroupingKind;
  key: string;
  decision: string;
  where: string;
  lot: number | null;
  guard: number | null;
}

/** What a decision sheet would do, and what is wrong or doubtful in it. */
export interface SheetReading {
  decisions: { line: number; by: GroupingKind; key: string; decision: string; messages: number }[];
  issues: { line: number; note: SheetNote; cell: string; refused: boolean }[];
  total: Amount;
  applied: boolean;
}

export interface Lot extends Amount {
  id: number;
  label: string;
  fate: 'trash' | 'purge';
  where: string | null;
  suggestion: string | null;
  excepted: number;
  guarded: Amount;
  vanished: number;
  adds: Amount;
  only: Amount;
}

export interface Run {
  id: number;
  action: 'trash' | 'purge' | 'restore';
  state: 'queued' | 'running' | 'paused' | 'done' | 'cancelled' | 'failed';
  label: string;
  selector: Record<string, unknown>;
  asked: Amount;
  done: Amount;
  left: ({ reason: string } & Amount)[];
  before: Mark | null;
  after: Mark | null;
  settled: Mark | null;
  askedBy: { user?: string; via?: 'page' | 'script'; token?: number };
  /** What can still be taken back. */
  undo: Amount;
  workedMs: number;
  /** Whether the tables and the ledger's entries say the same of it; absent in what an event brings. */
  agreement?: 'agrees' | 'differs' | 'broken';
  doing?: {
    phase: 'measuring' | 'recovering' | 'planning' | 'checking' | 'carrying-out' | 'concluding';
    messages: number;
  };
  problem?: { kind: string; detail: string };
  waits?: Wait;
  createdAt: string;
  startedAt?: string;
  endedAt?: string;
}
