import ical, { ICalEventTransparency } from 'ical-generator';
import { dayAfter, instantAt } from '../core/rhythm/rhythm';
import type { Account } from '../store/access/accounts';
import type { StandingLot } from '../store/plan/standing';

/** Dates of one standing lot, and how far ahead. */
const MOST_DATES = 60;
const AHEAD_MS = 366 * 86_400_000;
const LONG_MS = 15 * 60_000;

const FATES = {
  trash: 'moves what matches to the trash',
  archive: 'archives what matches, then moves it to the trash',
  strip: 'takes files out of what matches',
};

/** What will run by itself within a year, as iCalendar (RFC 5545). */
export function calendarOf(account: Account, lots: readonly StandingLot[], now: Date): string {
  const calendar = ical({ name: `Tamsel: ${account.user}`, prodId: '//Tamsel//Upkeep//EN', ttl: 6 * 3_600 });
  for (const { id, label, where, fate, rhythm, state, nextOn } of lots) {
    if (state !== 'on') continue;
    let day = nextOn;
    for (let at = 0; day !== null && at < MOST_DATES; at++) {
      const start = instantAt(day, rhythm.at, account.settings.timeZone);
      if (start.getTime() > now.getTime() + AHEAD_MS) break;
      calendar.createEvent({
        id: `standing-${account.id}-${id}-${day}@tamsel`,
        start,
        end: new Date(start.getTime() + LONG_MS),
        stamp: now,
        summary: label,
        description: `A standing lot ${FATES[fate]}: ${where || 'everything'}`,
        transparency: ICalEventTransparency.TRANSPARENT,
      });
      day = dayAfter(rhythm, day);
    }
  }
  // Each line ends so (§3.1), the last one too.
  return `${calendar.toString()}\r\n`;
}
