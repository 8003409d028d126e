import { TZDate } from '@date-fns/tz';
import { startOfDay, startOfYear } from 'date-fns';
import { BULK, categoryNumber } from '../core/categories/categories';
import type { Columns } from '../core/columns/columns';
import type { Tally } from '../core/columns/cross-filter';
import { dayOfInstant } from '../core/criteria/instants';
import { printText } from '../core/criteria/print';
import { largestCurve } from '../core/level/curve';
import { yearMatrix } from '../core/level/matrix';
import { type Need, type Reach, reach } from '../core/level/ways';
import type { Measured, MeasureRequest, Way } from './protocol';

/** Rows from the largest on, and from the oldest on. */
export interface Orders {
  bySize: Uint32Array;
  byTime: Uint32Array;
}

/**
 * What Level shows of a mailbox.
 *
 * @param scope one octet a row, 0 where it lies in the trash.
 */
export function measure(
  columns: Columns,
  scope: Uint8Array,
  orders: Orders,
  categories: Tally,
  timeZone: string,
  request: MeasureRequest,
): Measured {
  const { years, bands, cells } = yearMatrix(
    columns,
    scope,
    request.units,
    new TZDate(request.now, timeZone).getFullYear(),
    (year) => startOfYear(new TZDate(year, 0, 1, timeZone)).getTime() / 1000,
  );
  const curve = largestCurve(columns, scope, orders.bySize);
  let attached = 0;
  for (let row = 0; row < columns.length; row++) if (scope[row] === 1) attached += columns.attached[row] as number;
  return {
    years,
    bands,
    matrix: cells,
    categories,
    attached,
    // RFC 2045 §6.8: three octets become four, and lines of 76 end with two more.
    decoded: Math.round(attached * (3 / 4) * (76 / 78)),
    curve: curve.points,
    half: curve.half,
    total: { messages: curve.total.n, bytes: curve.total.bytes },
    ways: request.need ? waysTo(request.need, columns, scope, orders, timeZone, request.free) : [],
  };
}

/** Each way to the target, alone. */
function waysTo(
  need: Need,
  columns: Columns,
  scope: Uint8Array,
  { bySize, byTime }: Orders,
  timeZone: string,
  free: readonly string[],
): Way[] {
  const sizeOf = (row: number) => columns.size[row] as number;
  const timeOf = (row: number) => columns.received[row] as number;
  const sameDay = (value: number, last: number) => value < startOfNextDay(last, timeZone);
  const bulkNumbers = BULK.map(categoryNumber);
  const isFree = columns.dictionaries.folder.map((path) =>
    free.some((one) => path === one || path.startsWith(`${one}/`)),
  );
  const bulk = new Uint8Array(columns.length);
  const freeRows = new Uint8Array(columns.length);
  for (let row = 0; row < columns.length; row++) {
    bulk[row] = scope[row] === 1 && bulkNumbers.includes(columns.category[row] as number) ? 1 : 0;
    freeRows[row] = isFree[columns.folder[row] as number] ? 1 : 0;
  }
  const largest = reach(columns, bySize, scope, need, sizeOf, (value, last) => value === last);
  const oldBulk = reach(columns, byTime, bulk, need, timeOf, sameDay);
  const oldest = reach(columns, byTime, scope, need, timeOf, sameDay);
  const everyFree = reach(columns, byTime, freeRows, { messages: Infinity }, timeOf, () => true);
  const enough = 'bytes' in need ? everyFree.bytes >= need.bytes : everyFree.messages >= need.messages;
  const until = ({ edge }: Reach) => (edge === undefined ? '' : `received <= ${dayOfInstant(edge, timeZone)}`);
  const bulkWords = `(${BULK.map((name) => `category = ${name}`).join(' or ')})`;
  return [
    way('largest', largest, largest.edge === undefined ? '' : `size >= ${largest.edge}`),
    way('bulk', oldBulk, [bulkWords, until(oldBulk)].filter(Boolean).join(' and ')),
    way('oldest', oldest, until(oldest)),
    way('free', { ...everyFree, reaches: enough }, free.map((path) => `under = ${printText(path)}`).join(' or ')),
  ];
}

function way(kind: Way['kind'], { messages, bytes, reaches, edge }: Reach, where: string): Way {
  return { kind, messages, bytes, reaches, edge: edge ?? null, where };
}

function startOfNextDay(seconds: number, timeZone: string): number {
  const day = startOfDay(new TZDate(seconds * 1000, timeZone));
  day.setDate(day.getDate() + 1);
  return day.getTime() / 1000;
}
