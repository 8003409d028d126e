const MONTHS = 'JanFebMarAprMayJunJulAugSepOctNovDec';
const ZERO = 0x30;
const SPACE = 0x20;

/**
 * Reads a date-time (RFC 9051 §9), such as `17-Jul-1996 02:44:25 -0700`; a day of one digit has a blank before it. Other
 * forms are read as the platform reads them; the beginning of time where nothing can.
 */
export function readInternalDate(text: string): Date {
  const month = MONTHS.indexOf(text.slice(3, 6));
  const day = text.charCodeAt(0) === SPACE ? digits(text, 1, 1) : digits(text, 0, 2);
  const [hours, minutes, seconds] = [digits(text, 12, 2), digits(text, 15, 2), digits(text, 18, 2)];
  const offset = digits(text, 22, 2) * 60 + digits(text, 24, 2);
  const sign = text[21];
  // A digit that is none has made its number NaN, and with it the sum.
  const time =
    text.length === 26 && month >= 0 && month % 3 === 0 && (sign === '+' || sign === '-')
      ? Date.UTC(digits(text, 7, 4), month / 3, day, hours, minutes - (sign === '-' ? -offset : offset), seconds)
      : Number.NaN;
  if (!Number.isNaN(time)) return new Date(time);
  const read = new Date(text.trim());
  return Number.isNaN(read.getTime()) ? new Date(0) : read;
}

/** Writes a date-time in UTC (RFC 9051 §9). */
export function writeInternalDate(date: Date): string {
  const two = (number: number) => String(number).padStart(2, '0');
  const month = MONTHS.slice(3 * date.getUTCMonth(), 3 * date.getUTCMonth() + 3);
  const day = String(date.getUTCDate()).padStart(2, ' ');
  const time = [date.getUTCHours(), date.getUTCMinutes(), date.getUTCSeconds()].map(two).join(':');
  return `${day}-${month}-${String(date.getUTCFullYear()).padStart(4, '0')} ${time} +0000`;
}

function digits(text: string, at: number, count: number): number {
  let number = 0;
  for (let index = at; index < at + count; index++) {
    const digit = text.charCodeAt(index) - ZERO;
    if (!(digit >= 0 && digit <= 9)) return Number.NaN;
    number = number * 10 + digit;
  }
  return number;
}
