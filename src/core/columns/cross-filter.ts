import { CATEGORIES } from '../categories/categories';
import { FILE_KINDS } from '../files/kinds';
import { FLAG_BITS } from '../mailbox/flags';
import { type Months, monthColumn, SIZE_BINS, sizeColumn } from './axes';
import { type Columns, encode } from './columns';
import { DIMENSIONS, type Dimension, type Interval } from './dimensions';
import { orderBy } from './order';

/** Messages and octets by the codes of a dimension. */
export interface Tally {
  readonly messages: Uint32Array;
  readonly bytes: Float64Array;
}

/** The flags whose share is shown; unseen is what is not seen. */
export const SHOWN_FLAGS = ['seen', 'flagged', 'answered', 'draft'] as const;

/** Every distribution of Sift. Each is under the conditions of all dimensions but its own. */
export interface Tallies {
  /** By month: under all but time. */
  readonly months: Tally;
  /** By row of the field: under all but size. */
  readonly sizes: Tally;
  /** Month times SIZE_BINS plus row: under all but size and time. */
  readonly field: Tally;
  readonly categories: Tally;
  readonly folders: Tally;
  /** By FILE_KINDS, a message under each kind that it has; the last is none. */
  readonly kinds: Tally;
  /** By SHOWN_FLAGS, then without each of them in the same order. */
  readonly flags: Tally;
  /** By address, and by registrable domain. */
  readonly senders: Tally;
  readonly domains: Tally;
}

const SIZE = 1;
const TIME = 2;
const CATEGORY = 4;
const FOLDER = 8;
const FILES = 16;
const FLAGS = 32;
const SENDER = 64;
/** Set where a row is outside the scope; no distribution ignores it. */
const SCOPE = 256;

/** Share of all rows from which on counting anew is quicker than counting in and out. */
const ANEW = 0.15;

/** A new condition of a dimension: an interval of sizes or times, or the rows of a mask; neither lets all through. */
export type Change =
  | { dimension: 'size' | 'time'; interval: Interval; mask?: undefined }
  | { dimension: Dimension; mask: Uint8Array | undefined; interval?: undefined };

const BIT = Object.fromEntries(DIMENSIONS.map((name, index) => [name, 1 << index])) as Record<Dimension, number>;
const NO_FILE = FILE_KINDS.length;
const FLAG_MASKS = SHOWN_FLAGS.map((name) => FLAG_BITS[name]);

/**
 * Cross-filtering over columns: each dimension has a condition, each row remembers which of them it fails, and a row
 * counts in a distribution when it fails none but that distribution's own. Changing one condition touches only the rows
 * that enter or leave it; the sums stay exact, since octets are whole numbers below 2^53.
 */
export class CrossFilter {
  /** Bits of the dimensions whose conditions a row fails; 0 is a match. */
  private readonly failedBits: Uint16Array;
  private readonly month: Uint16Array;
  private readonly bin: Uint8Array;
  /** By author: the code of its address, and of its domain. */
  private readonly addressOf: Uint32Array;
  private readonly domainOf: Uint32Array;
  readonly addresses: readonly string[];
  readonly domains: readonly string[];
  readonly now: Tallies;
  /** The same without any condition. */
  readonly everything: Tallies;
  readonly total = { messages: 0, bytes: 0 };
  readonly totalOfEverything: { messages: number; bytes: number };
  /** Rows by size and by time, rising, and which span of each order the condition lets through, if it is one. */
  private readonly orders: Record<'size' | 'time', Sorted>;

  /** @param scope one octet a row, 0 where it is left out of all; undefined: all are in. */
  constructor(
    readonly columns: Columns,
    readonly months: Months,
    scope?: Uint8Array,
  ) {
    this.failedBits = new Uint16Array(columns.length);
    if (scope) for (let row = 0; row < scope.length; row++) if (scope[row] === 0) this.failedBits[row] = SCOPE;
    this.month = monthColumn(columns.received, months);
    this.bin = sizeColumn(columns);
    const { author } = columns.dictionaries;
    const addresses = encode(author.address);
    const domains = encode(author.domain);
    this.addressOf = addresses.codes;
    this.domainOf = domains.codes;
    this.addresses = addresses.values;
    this.domains = domains.values;
    this.orders = { size: new Sorted(columns.size), time: new Sorted(columns.received) };
    this.now = this.emptyTallies();
    this.recount();
    this.everything = structuredClone(this.now);
    this.totalOfEverything = { ...this.total };
  }

  /** Whether a row meets every condition. */
  matches(row: number): boolean {
    return this.failedBits[row] === 0;
  }

  /**
   * Changes conditions. Where few rows enter or leave, only they are counted in and out; where many do, all is counted
   * anew, once for all changes.
   */
  change(changes: readonly Change[]): void {
    const moves = changes.reduce((sum, change) => sum + this.movesOf(change), 0);
    const anew = moves > this.columns.length * ANEW;
    for (const change of changes) {
      const bit = BIT[change.dimension];
      if (change.mask !== undefined || change.interval === undefined) {
        if (change.dimension === 'size' || change.dimension === 'time') this.orders[change.dimension].span = undefined;
        if (anew) this.writeMask(bit, change.mask);
        else this.moveByMask(bit, change.mask);
      } else if (anew) this.writeInterval(change.dimension, change.interval);
      else this.moveByInterval(change.dimension, change.interval);
    }
    if (anew) this.recount();
  }

  /** How many rows a change makes enter or leave. */
  private movesOf(change: Change): number {
    if (change.mask === undefined && change.interval !== undefined) {
      const sorted = this.orders[change.dimension];
      const before = sorted.span;
      if (!before) return this.columns.length;
      const [first, end] = [sorted.placeOf(change.interval.from), sorted.placeOf(change.interval.to)];
      const shared = Math.max(0, Math.min(end, before[1]) - Math.max(first, before[0]));
      return end - first + (before[1] - before[0]) - 2 * shared;
    }
    const { failedBits } = this;
    const { mask } = change;
    const bit = BIT[change.dimension];
    let moves = 0;
    for (let row = 0; row < failedBits.length; row++)
      if ((mask !== undefined && mask[row] === 0) !== (((failedBits[row] as number) & bit) !== 0)) moves++;
    return moves;
  }

  private moveByInterval(dimension: 'size' | 'time', { from, to }: Interval): void {
    const sorted = this.orders[dimension];
    const [first, end] = [sorted.placeOf(from), sorted.placeOf(to)];
    const [oldFirst, oldEnd] = sorted.span as [number, number];
    sorted.span = [first, end];
    const bit = BIT[dimension];
    // What leaves: old places outside the new span. What enters: new places outside the old one.
    this.move(sorted.rows, oldFirst, Math.min(oldEnd, first), bit, false);
    this.move(sorted.rows, Math.max(oldFirst, end), oldEnd, bit, false);
    this.move(sorted.rows, first, Math.min(end, oldFirst), bit, true);
    this.move(sorted.rows, Math.max(first, oldEnd), end, bit, true);
  }

  private writeInterval(dimension: 'size' | 'time', { from, to }: Interval): void {
    const sorted = this.orders[dimension];
    sorted.span = [sorted.placeOf(from), sorted.placeOf(to)];
    const values = dimension === 'size' ? this.columns.size : this.columns.received;
    const bit = BIT[dimension];
    const { failedBits } = this;
    for (let row = 0; row < failedBits.length; row++) {
      const value = values[row] as number;
      const bits = failedBits[row] as number;
      failedBits[row] = value >= from && value < to ? bits & ~bit : bits | bit;
    }
  }

  private writeMask(bit: number, mask: Uint8Array | undefined): void {
    const { failedBits } = this;
    for (let row = 0; row < failedBits.length; row++) {
      const bits = failedBits[row] as number;
      failedBits[row] = mask !== undefined && mask[row] === 0 ? bits | bit : bits & ~bit;
    }
  }

  private moveByMask(bit: number, mask: Uint8Array | undefined): void {
    const { failedBits } = this;
    for (let row = 0; row < failedBits.length; row++) {
      const bits = failedBits[row] as number;
      const fails = mask !== undefined && mask[row] === 0;
      if (fails === ((bits & bit) !== 0)) continue;
      failedBits[row] = bits ^ bit;
      this.tally(row, bits & ~bit, bit, fails ? -1 : 1);
    }
  }

  private move(rows: Uint32Array, first: number, end: number, bit: number, enters: boolean): void {
    const { failedBits } = this;
    for (let place = first; place < end; place++) {
      const row = rows[place] as number;
      const rest = (failedBits[row] as number) & ~bit;
      failedBits[row] = enters ? rest : rest | bit;
      this.tally(row, rest, bit, enters ? 1 : -1);
    }
  }

  private recount(): void {
    this.total.messages = 0;
    this.total.bytes = 0;
    for (const { messages, bytes } of Object.values(this.now) as Tally[]) {
      messages.fill(0);
      bytes.fill(0);
    }
    const { failedBits } = this;
    for (let row = 0; row < failedBits.length; row++) {
      const rest = failedBits[row] as number;
      // Most rows fail several conditions, and are seen nowhere.
      if ((rest & (rest - 1)) === 0 || rest === (SIZE | TIME)) this.tally(row, rest, 0, 1);
    }
  }

  /**
   * Counts a row in or out wherever it is seen.
   *
   * @param rest what it fails, without the bit that changed.
   * @param changed the bit that changed; distributions that ignore it see the row before and after.
   */
  private tally(row: number, rest: number, changed: number, sign: 1 | -1): void {
    // Only one distribution ignores two bits, none ignores more; and none ignores the scope.
    if (((rest & (rest - 1)) !== 0 && rest !== (SIZE | TIME)) || rest === SCOPE) return;
    const { now, columns } = this;
    const bytes = sign * (columns.size[row] as number);
    if (rest === 0) {
      this.total.messages += sign;
      this.total.bytes += bytes;
    }
    const month = this.month[row] as number;
    const bin = this.bin[row] as number;
    if (((rest & ~TIME) | (changed & TIME)) === 0) add(now.months, month, sign, bytes);
    if (((rest & ~SIZE) | (changed & SIZE)) === 0) add(now.sizes, bin, sign, bytes);
    if (((rest & ~(SIZE | TIME)) | (changed & (SIZE | TIME))) === 0)
      add(now.field, month * SIZE_BINS + bin, sign, bytes);
    if (((rest & ~CATEGORY) | (changed & CATEGORY)) === 0)
      add(now.categories, columns.category[row] as number, sign, bytes);
    if (((rest & ~FOLDER) | (changed & FOLDER)) === 0) add(now.folders, columns.folder[row] as number, sign, bytes);
    if (((rest & ~FILES) | (changed & FILES)) === 0) this.tallyKinds(row, sign, bytes);
    if (((rest & ~FLAGS) | (changed & FLAGS)) === 0) this.tallyFlags(row, sign, bytes);
    if (((rest & ~SENDER) | (changed & SENDER)) === 0) {
      const author = columns.author[row] as number;
      add(now.senders, this.addressOf[author] as number, sign, bytes);
      add(now.domains, this.domainOf[author] as number, sign, bytes);
    }
  }

  private tallyKinds(row: number, sign: 1 | -1, bytes: number): void {
    const bits = this.columns.kinds[row] as number;
    if (bits === 0) add(this.now.kinds, NO_FILE, sign, bytes);
    for (let kind = 0; bits >> kind !== 0; kind++)
      if (((bits >> kind) & 1) !== 0) add(this.now.kinds, kind, sign, bytes);
  }

  private tallyFlags(row: number, sign: 1 | -1, bytes: number): void {
    const bits = this.columns.flags[row] as number;
    for (let flag = 0; flag < FLAG_MASKS.length; flag++) {
      const has = (bits & (FLAG_MASKS[flag] as number)) !== 0;
      add(this.now.flags, has ? flag : flag + FLAG_MASKS.length, sign, bytes);
    }
  }

  private emptyTallies(): Tallies {
    const months = this.months.length - 1;
    const { dictionaries } = this.columns;
    return {
      months: emptyTally(months),
      sizes: emptyTally(SIZE_BINS),
      field: emptyTally(months * SIZE_BINS),
      categories: emptyTally(CATEGORIES.length),
      folders: emptyTally(dictionaries.folder.length),
      kinds: emptyTally(FILE_KINDS.length + 1),
      flags: emptyTally(SHOWN_FLAGS.length * 2),
      senders: emptyTally(this.addresses.length),
      domains: emptyTally(this.domains.length),
    };
  }
}

/** Rows in the rising order of a value. */
class Sorted {
  readonly rows: Uint32Array;
  private readonly values: Float64Array;
  /** First place inside and first behind it; undefined where the condition is no interval. */
  span: [number, number] | undefined;

  constructor(values: Float64Array) {
    this.rows = orderBy(values);
    this.values = new Float64Array(values.length);
    for (let place = 0; place < this.rows.length; place++)
      this.values[place] = values[this.rows[place] as number] as number;
    this.span = [0, values.length];
  }

  /** The first place whose value is not below one. */
  placeOf(value: number): number {
    let [from, to] = [0, this.values.length];
    while (from < to) {
      const middle = (from + to) >>> 1;
      if ((this.values[middle] as number) < value) from = middle + 1;
      else to = middle;
    }
    return from;
  }
}

function emptyTally(length: number): Tally {
  return { messages: new Uint32Array(length), bytes: new Float64Array(length) };
}

function add({ messages, bytes }: Tally, code: number, sign: 1 | -1, octets: number): void {
  messages[code] = (messages[code] as number) + sign;
  bytes[code] = (bytes[code] as number) + octets;
}
