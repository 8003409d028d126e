import { countOf, MAX_UID, type Ranges } from '../../../core/sets/ranges';
import type { Untagged } from '../channel/dialogue';
import { type Cursor, Malformed } from '../wire/cursor';

/** What a set of UIDs that a server tells may hold, or it is no answer. */
export interface SetBounds {
  /** As many messages as were looked through. */
  messages: number;
  /** No message has this UID or a larger one. */
  uidNext: number;
}

/**
 * Reads what a UID SEARCH finds: SEARCH (RFC 9051 §7.3.4 and before it RFC 3501 §7.2.5), or ESEARCH with ALL and COUNT
 * (RFC 4731 §3.1). Nothing that is named is expanded: a range stays one, whatever its ends.
 */
export class SearchAnswer {
  private readonly found: [number, number][] = [];
  private told = false;
  private count: number | undefined;

  /** @param tag of the command that it answers, which ESEARCH names. */
  take({ word, cursor }: Pick<Untagged, 'word' | 'cursor'>, tag: string): boolean {
    if (word === 'SEARCH') this.numbers(cursor);
    else if (word === 'ESEARCH') this.extended(cursor, tag);
    else return false;
    this.told = true;
    return true;
  }

  /** The set. Throws Malformed where it did not come, does not agree with its count, or goes beyond what there can be. */
  ended({ messages, uidNext }: SetBounds): Ranges {
    if (!this.told) throw new Malformed('an answer to SEARCH');
    const members = countOf(this.found);
    if (this.count !== undefined && this.count !== members) throw new Malformed('a set as large as its count');
    if (members > messages) throw new Malformed('a set no larger than the folder');
    if ((this.found.at(-1)?.[1] ?? 0) >= uidNext) throw new Malformed('a set below UIDNEXT');
    return this.found;
  }

  private numbers(cursor: Cursor): void {
    while (!cursor.isDone()) {
      // The mod-sequence of what was found (RFC 7162 §3.1.5).
      if (cursor.isList()) cursor.skip();
      else this.add(cursor.number(), undefined);
    }
  }

  private extended(cursor: Cursor, tag: string): void {
    if (cursor.opens()) {
      if (cursor.word() !== 'TAG' || cursor.string() !== tag) throw new Malformed('an answer to this search');
      cursor.leave();
    }
    while (!cursor.isDone()) {
      const name = cursor.word();
      if (name === 'UID') continue;
      if (name === 'COUNT') this.count = cursor.number();
      else if (name === 'ALL') for (const [first, last] of readSet(cursor.octets())) this.add(first, last);
      else cursor.skip();
    }
    if (this.count === undefined) throw new Malformed('a count');
  }

  private add(first: number, last = first): void {
    const open = this.found.at(-1);
    if (first < 1 || last < first || last > MAX_UID) throw new Malformed('a UID');
    if (open && first <= open[1]) throw new Malformed('UIDs in their order');
    if (open && first === open[1] + 1) open[1] = last;
    else this.found.push([first, last]);
  }
}

/** Reads the ranges of a sequence-set as they are written. Throws Malformed. */
export function* readSet(text: string): Generator<[first: number, last: number]> {
  for (let at = 0; at <= text.length; ) {
    const comma = text.indexOf(',', at);
    const end = comma < 0 ? text.length : comma;
    const colon = text.indexOf(':', at);
    const isRange = colon >= 0 && colon < end;
    const first = uid(text.slice(at, isRange ? colon : end));
    const last = isRange ? uid(text.slice(colon + 1, end)) : first;
    yield first <= last ? [first, last] : [last, first];
    at = end + 1;
  }
}

function uid(text: string): number {
  const number = /^\d{1,10}$/.test(text) ? Number(text) : 0;
  if (number < 1 || number > MAX_UID) throw new Malformed('a UID');
  return number;
}
