import type { Columns } from '../core/columns/columns';
import { type ColumnsContext, criteriaToMask, outsideTests } from '../core/columns/mask';
import { parseCriteria } from '../core/criteria/parse';
import type { Criteria } from '../core/criteria/tree';
import type { Ranges } from '../core/sets/ranges';

/** Where texts and guards are found that the columns do not carry. */
export interface Outside {
  /** Ids of the messages that meet a test, by its key; undefined while it is not known yet. */
  idsOf(key: string, test: Criteria): Ranges | undefined;
  /** Ids in the order of their subjects; undefined while they are not known yet. */
  bySubject(): readonly number[] | undefined;
}

/** Criteria over the columns, with what only the server knows joined in. */
export class Matching {
  constructor(
    private readonly columns: Columns,
    private readonly outside: Outside,
    private readonly timeZone: string,
  ) {}

  /** What an expression is read against, and the keys of its tests whose rows are still on their way. */
  contextOf(criteria: Criteria, now: Date): { context: ColumnsContext; waiting: string[] } {
    const outside = new Map<string, Uint8Array>();
    const waiting: string[] = [];
    for (const [key, test] of outsideTests(criteria)) {
      const ids = this.outside.idsOf(key, test);
      if (ids) outside.set(key, this.maskOfIds(ids));
      else waiting.push(key);
    }
    return { context: { now, timeZone: this.timeZone, outside }, waiting };
  }

  /** The rows that meet criteria; none where they can't be read. */
  maskOf(where: string, now: Date): { mask: Uint8Array; waiting: string[] } {
    const parsed = parseCriteria(where);
    if (!parsed.ok) return { mask: new Uint8Array(this.columns.length), waiting: [] };
    const { context, waiting } = this.contextOf(parsed.criteria, now);
    return { mask: criteriaToMask(parsed.criteria, this.columns, context), waiting };
  }

  private maskOfIds(ranges: Ranges): Uint8Array {
    const mask = new Uint8Array(this.columns.length);
    let range = 0;
    for (let row = 0; row < mask.length; row++) {
      const id = this.columns.id[row] as number;
      while (range < ranges.length && (ranges[range]?.[1] as number) < id) range++;
      const at = ranges[range];
      if (!at) break;
      if (id >= at[0]) mask[row] = 1;
    }
    return mask;
  }
}
