import { formatDistanceStrict } from 'date-fns';
import { fittingUnit, OCTETS_IN, type OctetUnit, type UnitSystem } from '../../core/units';
import { LOCALE } from '.';

const whole = new Intl.NumberFormat(LOCALE, { maximumFractionDigits: 0 });

export function count(number: number): string {
  return whole.format(number);
}

const compact = new Intl.NumberFormat(LOCALE, { notation: 'compact', maximumFractionDigits: 1 });

/** A number as short as it can be: `250K`. */
export function shortCount(number: number): string {
  return compact.format(number);
}

const DECIMALS: Record<OctetUnit, number> = { B: 0, kB: 0, KiB: 0, MB: 1, MiB: 1, GB: 2, GiB: 2 };
const formats = new Map<number, Intl.NumberFormat>();

function withDecimals(number: number, decimals: number): string {
  let format = formats.get(decimals);
  if (!format) {
    format = new Intl.NumberFormat(LOCALE, { minimumFractionDigits: decimals, maximumFractionDigits: decimals });
    formats.set(decimals, format);
  }
  return format.format(number);
}

/** An amount in one unit, without its name. */
export function octetsIn(number: number, unit: OctetUnit): string {
  return withDecimals(number / OCTETS_IN[unit], DECIMALS[unit]);
}

/** An amount in the unit that fits it, with its name (IEC 80000-13). */
export function octets(number: number, system: UnitSystem): string {
  const unit = fittingUnit(number, system);
  return `${octetsIn(number, unit)} ${unit}`;
}

export function percent(share: number): string {
  return `${whole.format(share * 100)} %`;
}

const dayFormats = new Map<string, Intl.DateTimeFormat>();

/** A day as YYYY-MM-DD. */
export function day(instant: string, timeZone: string): string {
  let format = dayFormats.get(timeZone);
  if (!format) {
    format = new Intl.DateTimeFormat('en-CA', { timeZone, year: 'numeric', month: '2-digit', day: '2-digit' });
    dayFormats.set(timeZone, format);
  }
  return format.format(new Date(instant));
}

/** A month as YYYY-MM. */
export function month(instant: string, timeZone: string): string {
  return day(instant, timeZone).slice(0, -3);
}

/** A month as people say it: `April 2027`. */
export function monthAndYear(instant: string, timeZone: string): string {
  return new Intl.DateTimeFormat(LOCALE, { timeZone, year: 'numeric', month: 'long' }).format(new Date(instant));
}

export function time(instant: string, timeZone: string): string {
  return new Intl.DateTimeFormat(LOCALE, { timeZone, hour: '2-digit', minute: '2-digit' }).format(new Date(instant));
}

export function dayAndTime(instant: string, timeZone: string): string {
  return `${day(instant, timeZone)} ${time(instant, timeZone)}`;
}

/** Whole days from now until an instant, none once it is past. */
export function daysUntil(instant: string): number {
  return Math.max(0, Math.ceil((Date.parse(instant) - Date.now()) / 86_400_000));
}

export function ago(instant: string): string {
  return formatDistanceStrict(new Date(instant), new Date(), { addSuffix: true });
}

/** How long ago, in its largest unit: `3 d`, `11 mo`, `2 y`. */
export function age(seconds: number): string {
  const days = Math.max(0, (Date.now() / 1000 - seconds) / 86_400);
  if (days < 1) return `${Math.floor(days * 24)} h`;
  if (days < 31) return `${Math.floor(days)} d`;
  return days < 366 ? `${Math.floor(days / 30.44)} mo` : `${Math.floor(days / 365.25)} y`;
}

export function duration(seconds: number): string {
  return formatDistanceStrict(0, Math.max(1, seconds) * 1000);
}
