import { heightOf, type Months, sizeAt } from '../../core/columns/axes';
import { allOf, byDimension, intervalOf } from '../../core/columns/dimensions';
import { dayOfInstant } from '../../core/criteria/instants';
import { parseCriteria } from '../../core/criteria/parse';
import type { Criteria } from '../../core/criteria/tree';
import { fittingUnit, OCTETS_IN, type UnitSystem } from '../../core/units';

/** A part of the field: edges in months from the left and in rows from below, with their fractions. */
export interface Brush {
  left: number;
  right: number;
  bottom: number;
  top: number;
}

export interface FieldContext {
  now: Date;
  timeZone: string;
  units: UnitSystem;
  months: Months;
}

/** The instant at a place of the field, seconds. */
export function timeAt(months: Months, place: number): number {
  const last = months.length - 2;
  const month = Math.max(0, Math.min(last, Math.floor(place)));
  const [start, end] = [months[month] as number, months[month + 1] as number];
  return start + (end - start) * (place - month);
}

/** The place of an instant, within the field. */
export function placeOf(months: Months, seconds: number): number {
  const last = months.length - 2;
  for (let month = 0; month <= last; month++) {
    const [start, end] = [months[month] as number, months[month + 1] as number];
    if (seconds < end) return seconds <= start ? month : month + (seconds - start) / (end - start);
  }
  return last + 1;
}

/** A size in two digits of its unit, as people write it. */
function rounded(octets: number, units: UnitSystem): Criteria & { kind: 'test' } {
  const unit = fittingUnit(octets, units);
  const number = octets / OCTETS_IN[unit];
  const digits =
    number >= 100 ? Math.round(number / 10) * 10 : number >= 10 ? Math.round(number) : Math.round(number * 10) / 10;
  return { kind: 'test', field: 'size', op: '>=', value: { type: 'octets', number: digits, unit } };
}

/** The conditions that a brush says; an edge at the edge of the field says none, so what lies outside is in. */
export function conditionsOfBrush(brush: Brush, whole: Brush, { months, timeZone, units }: FieldContext): Criteria[] {
  const conditions: Criteria[] = [];
  if (brush.bottom > whole.bottom) conditions.push(rounded(sizeAt(brush.bottom), units));
  if (brush.top < whole.top) conditions.push({ ...rounded(sizeAt(brush.top), units), op: '<' });
  const day = (op: '<' | '>=', place: number): Criteria => ({
    kind: 'test',
    field: 'received',
    op,
    value: { type: 'day', day: dayOfInstant(timeAt(months, place), timeZone) },
  });
  if (brush.left > whole.left) conditions.push(day('>=', brush.left));
  if (brush.right < whole.right) conditions.push(day('<', brush.right));
  return conditions;
}

/** The part of the field that criteria leave; undefined where sizes and times are no single part, or nothing is left out. */
export function brushOf(where: string, whole: Brush, context: FieldContext): Brush | undefined {
  const parsed = parseCriteria(where);
  if (!parsed.ok) return undefined;
  const parts = byDimension(parsed.criteria);
  const size = intervalOf(parts.size, context);
  const time = intervalOf(parts.time, context);
  if (
    !size ||
    !time ||
    allOf([parts.size, parts.time].filter(({ kind }) => kind !== 'everything')).kind === 'everything'
  )
    return undefined;
  const height = (octets: number) => Math.max(whole.bottom, Math.min(whole.top, heightOf(octets)));
  return {
    left: time.from === -Infinity ? whole.left : placeOf(context.months, time.from),
    right: time.to === Infinity ? whole.right : placeOf(context.months, time.to),
    bottom: size.from === -Infinity ? whole.bottom : height(size.from),
    top: size.to === Infinity ? whole.top : height(size.to),
  };
}
