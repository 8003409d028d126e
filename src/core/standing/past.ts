import { instantOfAge } from '../criteria/instants';
import { type Criteria, isPlace, type Operator } from '../criteria/tree';

/** Conditions in a column of bits. */
const BITS = 30;

/** What is there of a mailbox, a row a message, or of files a row a file of a message. What came in last comes first. */
export interface PastMail {
  /** Ids of placements, falling where two came in at once. The rows of one lie together. */
  id: Int32Array;
  /** Microseconds since 1970, as PostgreSQL keeps them. */
  received: Float64Array;
  /** Octets; negative where there is no file: it is never taken, and has its place among those of its author. */
  size: Float64Array;
  flags: Int32Array;
  /** A number each; 0 where a message has no author. */
  author: Int32Array;
  /** Months in the user's time zone, counted from any. */
  month: Int32Array;
  /** 1 where a guard keeps it. */
  kept: Int32Array;
  /** Which of the conditions that time does not change hold: the first is the lowest bit of the first column. */
  still: Int32Array[];
}

/** Parts of criteria that time and what was taken before don't change, as large as they can be. */
export function stillParts(criteria: Criteria): Criteria[] {
  const parts: Criteria[] = [];
  split(criteria, parts);
  return parts;
}

/** How many columns of bits so many conditions need. */
export function columnsOfBits(conditions: number): number[][] {
  const columns: number[][] = [];
  for (let at = 0; at < conditions; at += BITS)
    columns.push(Array.from({ length: Math.min(BITS, conditions - at) }, (_, bit) => at + bit));
  return columns;
}

/** Criteria that hold wherever these could at any instant: those that time changes are left out. */
export function possibleEver(criteria: Criteria, negated = false): Criteria {
  const always: Criteria = negated ? { kind: 'not', of: { kind: 'everything' } } : { kind: 'everything' };
  if (criteria.kind === 'not') return { kind: 'not', of: possibleEver(criteria.of, !negated) };
  if (criteria.kind === 'all' || criteria.kind === 'any')
    return { kind: criteria.kind, of: criteria.of.map((part) => possibleEver(part, negated)) };
  return isStill(criteria) ? criteria : always;
}

/**
 * A mailbox that goes through its past again: at each instant what matches is taken, of what had come in before and was not taken at
 * an earlier one. Ages and places are as of that instant. Takes a step a row and instant.
 */
export class PastMailbox {
  private readonly wasTaken: Uint8Array;
  private readonly newestOf: Int32Array;
  private readonly monthOf: Int32Array;
  private readonly inMonthOf: Int32Array;

  constructor(
    private readonly mail: PastMail,
    private readonly criteria: Criteria,
    private readonly timeZone: string,
  ) {
    this.wasTaken = new Uint8Array(mail.id.length);
    let authors = 0;
    for (const author of mail.author) authors = Math.max(authors, author);
    this.newestOf = new Int32Array(authors + 1);
    this.monthOf = new Int32Array(authors + 1);
    this.inMonthOf = new Int32Array(authors + 1);
  }

  /** Rows that match now, whatever was taken in the past. */
  matching(now: Date): number[] {
    return this.rowsAt(now, Number.POSITIVE_INFINITY, false);
  }

  /** Takes what matches at an instant, which is later than those before. Rows: several of one message that has several files. */
  take(instant: Date): number[] {
    const taken = this.rowsAt(instant, instant.getTime() * 1000, true);
    // A message goes whole, whichever of its files matched.
    for (const row of taken) {
      if (this.wasTaken[row] === 1) continue;
      const id = this.mail.id[row];
      for (let at = row; this.mail.id[at] === id; at--) this.wasTaken[at] = 1;
      for (let at = row; this.mail.id[at] === id; at++) this.wasTaken[at] = 1;
    }
    return taken;
  }

  private rowsAt(instant: Date, before: number, withoutTaken: boolean): number[] {
    const { id, received, size, author, month, kept } = this.mail;
    this.newestOf.fill(0);
    this.monthOf.fill(-1);
    const at = { row: 0, newest: 1, monthly: 1 };
    const matches = this.compile(instant, at);
    const found: number[] = [];
    let last = -1;
    for (let row = 0; row < id.length; row++) {
      if ((received[row] as number) >= before || (withoutTaken && this.wasTaken[row] === 1)) continue;
      if (id[row] !== last) {
        last = id[row] as number;
        const who = author[row] as number;
        if (who === 0) at.newest = at.monthly = 1;
        else {
          at.newest = this.newestOf[who] = (this.newestOf[who] as number) + 1;
          // Months of an author follow each other, since what came in last comes first.
          if (this.monthOf[who] !== month[row]) this.inMonthOf[who] = 0;
          this.monthOf[who] = month[row] as number;
          at.monthly = this.inMonthOf[who] = (this.inMonthOf[who] as number) + 1;
        }
      }
      if ((size[row] as number) < 0 || kept[row] === 1) continue;
      at.row = row;
      if (matches()) found.push(row);
    }
    return found;
  }

  /** Criteria as of an instant, over the row that `at` points to. */
  private compile(instant: Date, at: { row: number; newest: number; monthly: number }): () => boolean {
    const { received, still } = this.mail;
    let parts = 0;
    const go = (criteria: Criteria): (() => boolean) => {
      if (isStill(criteria)) {
        const bits = still[Math.floor(parts / BITS)] as Int32Array;
        const bit = 1 << (parts++ % BITS);
        return () => ((bits[at.row] as number) & bit) !== 0;
      }
      if (criteria.kind === 'not') {
        const of = go(criteria.of);
        return () => !of();
      }
      if (criteria.kind === 'all' || criteria.kind === 'any') {
        const of = criteria.of.map(go);
        return criteria.kind === 'all' ? () => of.every((part) => part()) : () => of.some((part) => part());
      }
      if (criteria.kind !== 'test') throw new TypeError(`${criteria.kind} does not change with time.`);
      const { field, op, value } = criteria;
      if (value.type === 'age') {
        const edge = instantOfAge(value.number, value.unit, instant, this.timeZone).getTime() * 1000;
        // An age above n means: received before the instant.
        return () => compare(edge, op, received[at.row] as number);
      }
      if (value.type !== 'count' || !isPlace(field)) throw new TypeError(`${field} does not change with time.`);
      return () => compare(at[field], op, value.number);
    };
    return go(this.criteria);
  }
}

/** Collects still parts, in the order in which they are compiled. */
function split(criteria: Criteria, parts: Criteria[]): void {
  if (isStill(criteria)) parts.push(criteria);
  else if (criteria.kind === 'not') split(criteria.of, parts);
  else if (criteria.kind === 'all' || criteria.kind === 'any') for (const part of criteria.of) split(part, parts);
}

function isStill(criteria: Criteria): boolean {
  if (criteria.kind === 'not') return isStill(criteria.of);
  if (criteria.kind === 'all' || criteria.kind === 'any') return criteria.of.every(isStill);
  return criteria.kind !== 'test' || (criteria.field !== 'age' && !isPlace(criteria.field));
}

function compare(left: number, op: Operator, right: number): boolean {
  switch (op) {
    case '<':
      return left < right;
    case '<=':
      return left <= right;
    case '>':
      return left > right;
    case '>=':
      return left >= right;
    case '!=':
      return left !== right;
    default:
      return left === right;
  }
}
