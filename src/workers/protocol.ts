import type { Category } from '../core/categories/categories';
import type { Tallies, Tally } from '../core/columns/linked';
import type { Amount } from '../core/level/level';

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
  | { kind: 'all' }
  | { kind: 'none' };

/** How the API is told what is marked. */
export interface MarkedSelector {
  where?: string;
  ids?: number[];
  except?: number[];
  expect: Amount;
}

/** What Level shows, computed over all mail but the trash. */
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
}

export type CallName = keyof Calls;
export type Asked = { [N in CallName]: { id: number; name: N; argument: Calls[N][0] } }[CallName];
export type Told = { id: number; ok: true; result: unknown } | { id: number; ok: false; error: string; status: number };
