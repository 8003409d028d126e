/** Characters of a line before a message that are looked at: a longer one is none. */
export const LONGEST_FROM_LINE = 1024;

const MONTHS = ['jan', 'feb', 'mar', 'apr', 'may', 'jun', 'jul', 'aug', 'sep', 'oct', 'nov', 'dec'];
const TIME = /^(\d{1,2}):(\d{2})(?::(\d{2}))?$/;
const YEAR = /^\d{4}$/;
const DAY = /^\d{1,2}$/;
const OFFSET = /^([+-])(\d{2})(\d{2})$/;

/**
 * Reads the line before a message in an mbox file: `From `, who sent it, and when (RFC 4155, appendix A). Writers differ in where
 * they put the zone, and whether they put one; without one it is UTC. A line without a time and a year is none: it is a line of
 * the message that was not quoted.
 *
 * @returns when it came in; null where that is no instant; undefined where the line is none of these.
 */
export function readFromLine(line: string): Date | null | undefined {
  if (!line.startsWith('From ') || line.length > LONGEST_FROM_LINE) return undefined;
  const words = line
    .slice('From '.length)
    .trim()
    .split(/[ \t]+/);
  const at = words.findLastIndex((word) => TIME.test(word));
  if (at < 2) return undefined;
  const behind = words.slice(at + 1);
  const date = dateBehind(words, at, behind) ?? dateBefore(words, at);
  if (!date) return undefined;
  const { day, month, year } = date;
  const [, hours = '', minutes = '', seconds = '0'] = TIME.exec(words[at] as string) ?? [];
  const [, sign, offsetHours = '0', offsetMinutes = '0'] =
    behind.map((word) => OFFSET.exec(word)).find((found) => found !== null) ?? [];
  const offset = (Number(offsetHours) * 60 + Number(offsetMinutes)) * (sign === '-' ? -1 : 1);
  const time = Date.UTC(year, month, day, Number(hours), Number(minutes) - offset, Number(seconds));
  return Number.isNaN(time) || year < 1971 ? null : new Date(time);
}

interface Day {
  day: number;
  month: number;
  year: number;
}

/** `Aug  6 09:05:07 2023`, as the C library writes it, perhaps with a zone before the year. */
function dateBehind(words: readonly string[], at: number, behind: readonly string[]): Day | undefined {
  const year = behind.find((word) => YEAR.test(word));
  return year === undefined ? undefined : dayOf(words[at - 1], words[at - 2], year);
}

/** `6 Aug 2023 09:05:07`, as a Date field has it. */
function dateBefore(words: readonly string[], at: number): Day | undefined {
  const year = words[at - 1];
  return year === undefined || !YEAR.test(year) ? undefined : dayOf(words[at - 3], words[at - 2], year);
}

function dayOf(day = '', name = '', year: string): Day | undefined {
  const month = MONTHS.indexOf(name.slice(0, 3).toLowerCase());
  return DAY.test(day) && month >= 0 ? { day: Number(day), month, year: Number(year) } : undefined;
}

/** A line that can begin a header (RFC 5322 §2.2), or, with `>`, a line before a message that a server kept there. */
const FIELD = /^(?:[!-9;-~]{1,200}[ \t]*:|>From )/;

/**
 * Whether a line is one before a message: it has the form of one, and what follows it begins a header; or an empty line stands
 * before it, and it is the last, or an empty line follows.
 *
 * @param before whether an empty line, or nothing, stands before it.
 * @param next the line that follows; undefined where there is none.
 */
export function beginsMessage(line: string, before: boolean, next: string | undefined): boolean {
  if (readFromLine(line) === undefined) return false;
  return (next !== undefined && FIELD.test(next)) || (before && (next === undefined || next.trim() === ''));
}
