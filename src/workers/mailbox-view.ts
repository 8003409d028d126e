import { CATEGORIES, type Category } from '../core/categories/categories';
import { monthsOf } from '../core/columns/axes';
import { type Columns, rowOfId } from '../core/columns/columns';
import { type Change, CrossFilter } from '../core/columns/cross-filter';
import { byDimension, DIMENSIONS, intervalOf } from '../core/columns/dimensions';
import { criteriaToMask } from '../core/columns/mask';
import { largest, orderBy, ranksOf } from '../core/columns/order';
import { parseCriteria } from '../core/criteria/parse';
import { printCriteria } from '../core/criteria/print';
import type { Criteria } from '../core/criteria/tree';
import { bitsOfRanges, eachBit } from '../core/plan/bits';
import { parseSequenceSet } from '../core/sets/ranges';
import { fold } from '../core/text';
import { Matching, type Outside } from './matching';
import { measure } from './measure';
import type {
  ListOrder,
  ListRow,
  ListWindow,
  Marked,
  MarkedSelector,
  Marking,
  Measured,
  MeasureRequest,
  Narrowed,
} from './protocol';

const SENDERS_SHOWN = 12;

/** A mailbox as Sift and Level look at it: its columns but the trash, narrowed, ordered and marked. */
export class MailboxView {
  private readonly linked: CrossFilter;
  /** One octet a row, 0 where it lies in the trash. */
  readonly scope: Uint8Array;
  readonly matching: Matching;
  private readonly orders = new Map<string, Uint32Array>();
  /** Messages by the number of their thread. */
  private readonly threadSizes: Uint32Array;
  /** Printed conditions by dimension, so that only what changed is computed again. */
  private conditions: Record<string, string> = {};
  private where = '';
  /** The matching rows in the order of the list, as far as they were looked for. */
  private list: { order: Uint32Array; rows: Uint32Array; found: number; place: number } | undefined;
  private readonly marks: Uint8Array;
  private readonly marked = { messages: 0, bytes: 0 };
  /** What matched when all was marked, and the criteria then. */
  private basis: { where: string; rows: Uint8Array } | undefined;

  /** @param trash paths that are the trash. */
  constructor(
    readonly columns: Columns,
    readonly timeZone: string,
    trash: ReadonlySet<string>,
    private readonly outside: Outside,
    now: Date,
  ) {
    this.matching = new Matching(columns, outside, timeZone);
    const inTrash = columns.dictionaries.folder.map((path) => trash.has(path));
    this.scope = new Uint8Array(columns.length);
    for (let row = 0; row < columns.length; row++) this.scope[row] = inTrash[columns.folder[row] as number] ? 0 : 1;
    this.marks = new Uint8Array(columns.length);
    this.linked = new CrossFilter(columns, monthsOf(columns.received, now, timeZone), this.scope);
    let highest = 0;
    for (let row = 0; row < columns.length; row++) highest = Math.max(highest, columns.thread[row] as number);
    this.threadSizes = new Uint32Array(highest + 1);
    for (let row = 0; row < columns.length; row++) {
      const thread = columns.thread[row] as number;
      this.threadSizes[thread] = (this.threadSizes[thread] as number) + 1;
    }
  }

  /** Takes over what was marked in an earlier state of the same mailbox; what went since is marked no more. */
  takeMarks(from: MailboxView): void {
    for (let row = 0; row < from.marks.length; row++) {
      if (from.marks[row] === 0) continue;
      const here = rowOfId(this.columns, from.columns.id[row] as number);
      if (here >= 0 && this.scope[here] === 1) this.setMark(here, true);
    }
    // What came in since matched no criteria then, so the frozen basis stays as it was, by ids.
    if (from.basis) {
      const rows = new Uint8Array(this.columns.length);
      for (let row = 0; row < from.columns.length; row++) {
        if (from.basis.rows[row] === 0) continue;
        const here = rowOfId(this.columns, from.columns.id[row] as number);
        if (here >= 0 && this.scope[here] === 1) rows[here] = 1;
      }
      this.basis = { where: from.basis.where, rows };
    }
  }

  /**
   * Narrows to criteria. Where they can't be read, nothing changes.
   *
   * @param besides rows that count besides, which no criteria say, and a key that tells such sets apart.
   */
  narrow(where: string, now: Date, window: ListWindow, besides?: { key: string; mask: Uint8Array }): Narrowed {
    const parsed = parseCriteria(where);
    const waiting = parsed.ok ? this.apply(parsed.criteria, where, now, besides) : [];
    const { linked } = this;
    const { senders: _, domains: __, ...shown } = linked.now;
    const { senders: ___, domains: ____, field: _____, ...everything } = linked.everything;
    return {
      where: this.where,
      waiting,
      total: { ...linked.total },
      everything: { ...linked.totalOfEverything },
      now: shown,
      all: everything,
      months: linked.months,
      folders: this.columns.dictionaries.folder,
      senders: this.topSenders(),
      ...this.window(window),
      marked: this.markedNow(),
    };
  }

  private apply(
    criteria: Criteria,
    where: string,
    now: Date,
    besides: { key: string; mask: Uint8Array } | undefined,
  ): string[] {
    const { context, waiting } = this.matching.contextOf(criteria, now);
    const parts = byDimension(criteria);
    const changes: Change[] = [];
    for (const dimension of DIMENSIONS) {
      const part = parts[dimension];
      // Ages move on with the clock, so their instant counts, not their text.
      const interval =
        dimension === 'size' || dimension === 'time' ? intervalOf(part, { now, timeZone: this.timeZone }) : undefined;
      const more = dimension === 'rest' ? besides : undefined;
      const printed = interval
        ? `${interval.from} ${interval.to}`
        : `${printCriteria(part)} ${waiting.join(' ')} ${more?.key ?? ''}`;
      if (this.conditions[dimension] === printed) continue;
      this.conditions[dimension] = printed;
      if (interval) changes.push({ dimension: dimension as 'size' | 'time', interval });
      else
        changes.push({
          dimension,
          mask: both(part.kind === 'everything' ? undefined : criteriaToMask(part, this.columns, context), more?.mask),
        });
    }
    if (changes.length > 0) {
      this.linked.change(changes);
      this.list = undefined;
    }
    this.where = where;
    return waiting;
  }

  private topSenders(): Narrowed['senders'] {
    const { linked, columns } = this;
    const { messages, bytes } = linked.now.senders;
    const codes = largest(bytes, SENDERS_SHOWN);
    const { author } = columns.dictionaries;
    return codes.map((code) => {
      const address = linked.addresses[code] as string;
      return {
        address,
        name: author.name[author.address.indexOf(address)] || address,
        messages: messages[code] as number,
        bytes: bytes[code] as number,
        everything: linked.everything.senders.bytes[code] as number,
      };
    });
  }

  /** The rows of the list that are in view. */
  window(window: ListWindow): { rows: ListRow[]; first: number } {
    const order = this.orderOf(window.order, window.descending);
    if (this.list?.order !== order) this.list = this.startList(order);
    const first = Math.max(0, Math.min(window.first, this.linked.total.messages));
    const rows = Array.from(this.listed(first, first + window.count), (row) => this.rowAt(row));
    return { rows, first };
  }

  private startList(order: Uint32Array): NonNullable<MailboxView['list']> {
    return { order, rows: new Uint32Array(this.linked.total.messages), found: 0, place: 0 };
  }

  /**
   * Rows of the list from one place up to another. Looked for only so far: the top of a list is there at once, however
   * many match.
   */
  private listed(first: number, end: number): Uint32Array {
    const { list, linked } = this;
    if (!list) return new Uint32Array(0);
    for (; list.found < Math.min(end, list.rows.length) && list.place < list.order.length; list.place++) {
      const row = list.order[list.place] as number;
      if (linked.matches(row)) list.rows[list.found++] = row;
    }
    return list.rows.subarray(first, Math.min(end, list.found));
  }

  private orderOf(order: ListOrder, descending: boolean): Uint32Array {
    const name = `${order} ${descending}`;
    const known = this.orders.get(name);
    if (known) return known;
    const values = this.orderValues(order);
    // Subjects are still on their way: by size until then.
    if (!values) return this.orderOf('size', true);
    const made = orderBy(values, descending);
    this.orders.set(name, made);
    return made;
  }

  private orderValues(order: ListOrder): ArrayLike<number> | undefined {
    const { columns } = this;
    const { author, folder } = columns.dictionaries;
    switch (order) {
      case 'from': {
        const ranks = ranksOf(author.name.map((name, code) => fold(name || (author.address[code] as string))));
        return Uint32Array.from(columns.author, (code) => ranks[code] as number);
      }
      case 'folder': {
        const ranks = ranksOf(folder.map(fold));
        return Uint32Array.from(columns.folder, (code) => ranks[code] as number);
      }
      case 'subject': {
        const ids = this.outside.bySubject();
        if (!ids) return undefined;
        const places = new Uint32Array(columns.length);
        for (const [place, id] of ids.entries()) {
          const row = rowOfId(columns, id);
          if (row >= 0) places[row] = place;
        }
        return places;
      }
      default:
        return columns[order];
    }
  }

  /** A row as lists show it. */
  rowAt(row: number): ListRow {
    const { columns } = this;
    const { author, folder } = columns.dictionaries;
    const code = columns.author[row] as number;
    return {
      id: columns.id[row] as number,
      size: columns.size[row] as number,
      date: columns.date[row] as number,
      received: columns.received[row] as number,
      name: author.name[code] as string,
      address: author.address[code] as string,
      folder: folder[columns.folder[row] as number] as string,
      flags: columns.flags[row] as number,
      category: CATEGORIES[columns.category[row] as number] as Category,
      kinds: columns.kinds[row] as number,
      files: columns.files[row] as number,
      attached: columns.attached[row] as number,
      threaded: this.threadSizes[columns.thread[row] as number] as number,
      marked: this.marks[row] === 1,
    };
  }

  /** Marks or unmarks; ranges are places in the list as it was shown last. */
  mark(marking: Marking): Marked {
    switch (marking.kind) {
      case 'toggle': {
        const [row] = this.listed(marking.index, marking.index + 1);
        if (row !== undefined) this.setMark(row, this.marks[row] === 0);
        break;
      }
      case 'range':
        for (const row of this.listed(marking.first, marking.last + 1)) this.setMark(row, marking.on);
        break;
      case 'ids':
        for (const id of marking.ids) {
          const row = rowOfId(this.columns, id);
          if (row >= 0 && this.scope[row] === 1) this.setMark(row, marking.on);
        }
        break;
      case 'set': {
        const bits = bitsOfRanges(parseSequenceSet(marking.ids) ?? [], this.columns.id);
        eachBit(bits, (row) => {
          if (this.scope[row] === 1) this.setMark(row, true);
        });
        break;
      }
      case 'all': {
        const rows = new Uint8Array(this.columns.length);
        for (let row = 0; row < rows.length; row++) {
          if (!this.linked.matches(row)) continue;
          rows[row] = 1;
          this.setMark(row, true);
        }
        this.basis = { where: this.where, rows };
        break;
      }
      case 'none':
        this.marks.fill(0);
        this.marked.messages = 0;
        this.marked.bytes = 0;
        this.basis = undefined;
    }
    return this.markedNow();
  }

  private setMark(row: number, on: boolean): void {
    if ((this.marks[row] === 1) === on) return;
    this.marks[row] = on ? 1 : 0;
    this.marked.messages += on ? 1 : -1;
    this.marked.bytes += (on ? 1 : -1) * (this.columns.size[row] as number);
  }

  private markedNow(): Marked {
    return { ...this.marked, excepted: this.basis ? this.idsWhere((row) => this.isExcepted(row)).length : 0 };
  }

  private isExcepted(row: number): boolean {
    return this.basis?.rows[row] === 1 && this.marks[row] === 0;
  }

  private idsWhere(holds: (row: number) => boolean): number[] {
    const ids: number[] = [];
    for (let row = 0; row < this.columns.length; row++) if (holds(row)) ids.push(this.columns.id[row] as number);
    return ids;
  }

  /** Ids of what is marked. */
  markedIds(): number[] {
    return this.idsWhere((row) => this.marks[row] === 1);
  }

  /** How the API is told what is marked: by criteria and exceptions where all was marked, else by ids. */
  selector(): MarkedSelector {
    const expect = { ...this.marked };
    const { basis } = this;
    const beyond = basis ? this.idsWhere((row) => this.marks[row] === 1 && basis.rows[row] === 0) : [];
    if (basis && beyond.length === 0)
      return { where: basis.where, except: this.idsWhere((row) => this.isExcepted(row)), expect };
    return { ids: this.markedIds(), expect };
  }

  /** The messages of a thread, oldest first, trash included. */
  thread(id: number): { ids: number[]; sizes: number[] } {
    const { columns } = this;
    const row = rowOfId(columns, id);
    if (row < 0) return { ids: [], sizes: [] };
    const thread = columns.thread[row] as number;
    const rows: number[] = [];
    for (let other = 0; other < columns.length; other++) if (columns.thread[other] === thread) rows.push(other);
    rows.sort((a, b) => (columns.date[a] as number) - (columns.date[b] as number) || a - b);
    return {
      ids: rows.map((other) => columns.id[other] as number),
      sizes: rows.map((other) => columns.size[other] as number),
    };
  }

  /** What Level shows of everything outside the trash. */
  measure(request: MeasureRequest): Measured {
    return measure(
      this.columns,
      this.scope,
      { bySize: this.orderOf('size', true), byTime: this.orderOfReceived() },
      this.linked.everything.categories,
      this.timeZone,
      request,
    );
  }

  private orderOfReceived(): Uint32Array {
    const known = this.orders.get('received');
    if (known) return known;
    const made = orderBy(this.columns.received);
    this.orders.set('received', made);
    return made;
  }
}

/** Rows that are in both masks; a missing one leaves nothing out. The first may be changed. */
function both(one: Uint8Array | undefined, other: Uint8Array | undefined): Uint8Array | undefined {
  if (!one || !other) return one ?? other;
  for (let row = 0; row < one.length; row++) one[row] = (one[row] as number) & (other[row] as number);
  return one;
}
