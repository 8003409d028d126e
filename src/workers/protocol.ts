import type { Plan } from '../contract/types';
import type { Category, Sign } from '../core/categories/categories';
import type { Tallies, Tally } from '../core/columns/cross-filter';
import type { Reason } from '../core/evidence/evidence';
import type { Copy } from '../core/files/copies';
import type { FileKind } from '../core/files/kinds';
import type { Missing } from '../core/level/gauge';
import type { Amount } from '../core/level/level';
import type { Suggestions } from '../core/plan/suggestions';
import type { GroupingKind } from '../core/senders/grouping';
import type { GroupOrder } from '../core/senders/ranking';

/** What the page asks of the worker that holds the columns, and what it is told. Times are seconds, sizes octets. */

export interface Opening {
  /** Path of the account's calls, `/api/accounts/1`. */
  base: string;
  timeZone: string;
}

export type ListOrder = 'size' | 'date' | 'from' | 'subject' | 'folder' | 'attached' | 'category';

/** Which rows of the list are in view. */
export interface ListWindow {
  order: ListOrder;
  descending: boolean;
  first: number;
  count: number;
}

/** A row of the list: what the columns carry of a message. */
export interface ListRow {
  id: number;
  size: number;
  date: number;
  received: number;
  name: string;
  address: string;
  folder: string;
  flags: number;
  category: Category;
  kinds: number;
  files: number;
  attached: number;
  /** Messages of its thread, this one included, wherever they lie. */
  threaded: number;
  marked: boolean;
}

export interface SenderBar extends Amount {
  name: string;
  address: string;
  everything: number;
}

/** Everything that Sift shows of one narrowing. */
export interface Narrowed {
  where: string;
  /** Texts that are still being looked for; until then they count as found nowhere. */
  waiting: string[];
  total: Amount;
  everything: Amount;
  now: Omit<Tallies, 'senders' | 'domains'>;
  /** The same without any condition, the field left out. */
  all: Omit<Tallies, 'senders' | 'domains' | 'field'>;
  /** Starts of the months of the field, and the end of the last. */
  months: Float64Array;
  folders: readonly string[];
  senders: SenderBar[];
  rows: ListRow[];
  first: number;
  marked: Marked;
}

/** What is marked: exact at every moment. */
export interface Marked extends Amount {
  /** Of everything that matched when all was marked, what is not. */
  excepted: number;
}

export type Marking =
  | { kind: 'toggle'; index: number }
  | { kind: 'range'; first: number; last: number; on: boolean }
  | { kind: 'ids'; ids: number[]; on: boolean }
  /** Marks a sequence set of ids besides what is marked. */
  | { kind: 'set'; ids: string }
  | { kind: 'all' }
  | { kind: 'none' };

/** How the API is told what is marked. */
export interface MarkedSelector {
  where?: string;
  ids?: number[];
  except?: number[];
  expect: Amount;
}

/** What Level shows, computed over everything outside the trash. */
export interface Measured {
  /** First years, then the bands of size from the smallest; bytes and messages, row by row. */
  years: number[];
  bands: number[];
  matrix: Tally;
  categories: Tally;
  /** Encoded octets of attached files, and what they would be decoded. */
  attached: number;
  decoded: number;
  /** The n largest hold so many octets, at points of n. */
  curve: { n: number; bytes: number }[];
  half: { n: number; bytes: number };
  total: Amount;
  ways: Way[];
}

/** One way to the target, alone. */
export interface Way extends Amount {
  kind: 'largest' | 'bulk' | 'oldest' | 'free';
  /** Whether it reaches the target. */
  reaches: boolean;
  /** The criteria that say it. */
  where: string;
  /** The smallest size, or the instant before which. */
  edge: number | null;
}

export interface MeasureRequest {
  /** Octets, or messages, that must go. */
  need: { bytes: number } | { messages: number } | null;
  units: 'binary' | 'decimal';
  now: number;
  /** Folders that cost no decision besides the trash. */
  free: string[];
}

/** Which part of a ranking is asked for. */
export interface RankRequest {
  where: string;
  by: GroupingKind;
  order: GroupOrder;
  descending: boolean;
  /** Lines that are opened, by their ids. */
  opened: string[];
  first: number;
  count: number;
}

/** A sender, or a part of one, under the criteria; its evidence over the whole mailbox. Seconds and octets. */
export interface SenderRow extends Amount {
  id: string;
  depth: number;
  opens: boolean;
  by: GroupingKind;
  key: string;
  /** Criteria that mean it. */
  where: string;
  /** All names it goes by, the most frequent first. */
  names: string[];
  first: number;
  last: number;
  month: number;
  /** Octets by year. */
  years: number[];
  unseen: number;
  answered: number;
  flagged: number;
  largest: number;
  withFiles: number;
  attached: number;
  /** The category of most of its messages, and how many are of each. */
  category: Category;
  categories: { category: Category; messages: number }[];
  /** Every sign that any of its messages shows. */
  signs: Sign[];
  unsubscribable: number;
  written: number;
  /** 0 to 100. */
  evidence: number;
  reasons: Reason[];
}

export interface Ranked {
  groups: number;
  /** Lines, with the parts of what is opened. */
  count: number;
  first: number;
  rows: SenderRow[];
  years: number[];
  total: Amount;
  /** Octets of the first five. */
  firstFive: number;
  /** The largest figure of the order, for bars. */
  largest: number;
  waiting: string[];
}

export interface SuggestRequest {
  plan: Plan;
  missing: Missing | null;
  free: string[];
}

/** A message of the plan that a mistake would hurt. */
export interface Doubtful {
  id: number;
  size: number;
  date: number;
  name: string;
  address: string;
  evidence: number;
  reasons: (Reason | { reason: 'messageFlagged' | 'messageAnswered' | 'soleDocument'; number: number })[];
}

/** How often a file was mailed, as people part it: once, two or three times, more often. */
export const MAILED = ['once', 'few', 'many'] as const;

/** Files by what no criteria say; null leaves none out. */
export interface FileFilter {
  copy: Copy | null;
  mailed: (typeof MAILED)[number] | null;
  place: FilePlace | null;
}

/** Where a file lies. */
export const FILE_PLACES = ['mail', 'space'] as const;
export type FilePlace = (typeof FILE_PLACES)[number];

/** A row of the list of files. */
export interface FileRow {
  /** Its row. */
  id: number;
  place: FilePlace;
  /** Its number in the mailbox, or in file spaces. */
  file: number;
  /** Its message, by one of its placements; 0 in a file space. */
  message: number;
  name: string;
  kind: FileKind;
  size: number;
  date: number;
  author: string;
  folder: string;
  copy: Copy;
  /** How often the same was mailed. */
  mailed: number;
  marked: boolean;
}

/** Everything that Files shows of one narrowing: files count where messages do in Sift. */
export interface NarrowedFiles extends Omit<Narrowed, 'rows'> {
  rows: FileRow[];
  copies: { now: Tally; all: Tally };
  mailed: { now: Tally; all: Tally };
  places: { now: Tally; all: Tally };
  /** Of what is marked, that in file spaces. */
  keptMarked: { files: number; bytes: number };
}

/** How the API is told which files are marked. */
export interface FileSelector {
  where?: string;
  ids?: number[];
  expect: { files: number; bytes: number };
  /** Numbers of those in file spaces, which are none of the others. */
  kept: number[];
  /** The largest picture of these. */
  keptPicture?: { id: number; name: string };
}

/** Calls of the worker: name to argument and result. */
export interface Calls {
  open: [Opening, { messages: number }];
  /** Takes in what changed on the server; whether anything did. */
  refresh: [null, boolean];
  narrow: [{ where: string; now: number; list: ListWindow }, Narrowed];
  mark: [Marking, Marked];
  rows: [ListWindow, { rows: ListRow[]; first: number }];
  selector: [null, MarkedSelector];
  thread: [number, { ids: number[]; sizes: number[] }];
  measure: [MeasureRequest, Measured];
  rank: [RankRequest, Ranked];
  /** All groups of a ranking, without what it opened into. */
  groups: [RankRequest, { id: string; by: GroupingKind; key: string; label: string }[]];
  suggest: [SuggestRequest, Suggestions | null];
  narrowFiles: [{ where: string; now: number; list: ListWindow; filter: FileFilter }, NarrowedFiles];
  markFiles: [Marking, Marked];
  fileSelector: [null, FileSelector];
  /** Where else the same file was mailed, and the files of the same message. */
  fileContext: [number, { alike: FileRow[]; besides: FileRow[] }];
  /** Reads the files anew: copies of some were saved or checked. */
  refreshFiles: [null, null];
  doubtful: [Plan, { doubtful: Doubtful[]; largest: Doubtful[] }];
}

export type CallName = keyof Calls;
export type Asked = { [N in CallName]: { id: number; name: N; argument: Calls[N][0] } }[CallName];
export type Told = { id: number; ok: true; result: unknown } | { id: number; ok: false; error: string; status: number };
