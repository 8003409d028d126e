import { memberPath } from '../../src/core/space/path';
import { type Attachment, fileOctets } from '../files/body';
import { Random, seedOf } from '../message/random';
import type { ScenarioFile, Shared } from '../webdav/tree';
import type { Scenario } from './mailbox';
import { LETTER_LINES } from './words';

const DAY = 86_400;
const YEAR = 365 * DAY;

/** Shares of what is not mail: photographs of two series, plans, and the most that an attached file may be that lies there too. */
const SERIES_SHARE = 0.16;
const PLANS_SHARE = 0.14;
const DOUBLED_SHARE = 0.12;

/** Photographs of one evening, each nearly like the one before. */
const SERIES = [
  { folder: 'Open days/2024/Evening', first: 4_110, pictures: 12, view: 6, before: 2.4 * YEAR },
  { folder: 'Open days/2025/Winners', first: 5_230, pictures: 9, view: 9, before: 1.3 * YEAR },
] as const;
const PLANS = 18;

const PARISH = 'From the parish';
/** What the parish shares: it does not count. */
export const SHARED: Shared[] = [{ path: `${encoded(PARISH)}/`, owner: 'clerk@parish.example' }];

/**
 * The file space of the secretary: what of the mailbox's limit is not mail, to the octet. Two attached files lie in it too.
 *
 * @param end the last moment, seconds since the epoch.
 */
export function filesOf({ notMail, attached = [] }: Scenario, end: number): ScenarioFile[] {
  const files: ScenarioFile[] = [];
  const add = (path: string, file: Attachment, modified: number) => files.push(made(path, file, Math.floor(modified)));
  for (const [at, { folder, first, pictures, view, before }] of SERIES.entries())
    for (let take = 0; take < pictures; take++) {
      const name = `IMG_${first + take}.jpg`;
      const octets = Math.round(
        ((notMail * SERIES_SHARE) / pictures) * (0.9 + (0.2 * ((take * 5) % pictures)) / pictures),
      );
      const file = { name, type: 'image/jpeg', seed: seedOf(8_801 + at, take), octets, view, take };
      add(`${folder}/${name}`, file, end - before + take * 40);
    }
  for (let plan = 0; plan < PLANS; plan++) {
    const random = new Random(seedOf(8_811, plan));
    const octets = Math.round(((notMail * PLANS_SHARE) / PLANS) * (0.6 + 0.8 * random.next()));
    const name = `${random.pick(['Plots', 'Water pipes', 'Paths & hedges', 'Pond', 'Möwenweg'])}, sheet ${plan + 1}.pdf`;
    const folder = `Plans/${2018 + (plan % 8)}`;
    add(
      `${folder}/${name}`,
      { name, type: 'application/pdf', seed: seedOf(8_812, plan), octets },
      end - (8 - (plan % 8)) * YEAR,
    );
  }
  for (const [at, file] of doubled(attached, notMail * DOUBLED_SHARE).entries())
    add(`${at === 0 ? 'Films' : 'Plans/From mail'}/${file.name}`, file, end - (1 + at) * YEAR);
  for (let year = 2018; year < 2026; year++)
    for (const [name, type, octets] of [
      ['Members.csv', 'text/csv', 5_400],
      ['Accounts.ods', 'application/vnd.oasis.opendocument.spreadsheet', 11_800],
      ['Minutes.odt', 'application/vnd.oasis.opendocument.text', 9_200],
    ] as const)
      add(
        `Committee/${year}/${name}`,
        { name, type, seed: seedOf(8_821, year * 10 + octets), octets: octets + year },
        end - (2026 - year) * YEAR,
      );
  const rest = notMail - files.reduce((sum, { size }) => sum + size, 0);
  const film = { name: 'Open day 2025.mp4', type: 'video/mp4', seed: 8_831, octets: rest };
  add(`Films/${film.name}`, film, end - 1.2 * YEAR);
  for (let sheet = 0; sheet < 6; sheet++) {
    const octets = Math.round(notMail * 0.006) + sheet * 1_000;
    const name = `Parish newsletter ${sheet + 1}.pdf`;
    add(
      `${PARISH}/${name}`,
      { name, type: 'application/pdf', seed: seedOf(8_841, sheet), octets },
      end - sheet * 60 * DAY,
    );
  }
  return files;
}

/** Two attached files that the secretary also put into the file space: the largest film that fits, or else document, and a plan. */
function doubled(attached: readonly Attachment[], most: number): Attachment[] {
  const fitting = attached.filter(({ octets }) => octets <= most).sort((a, b) => b.octets - a.octets);
  const plans = fitting.filter(({ name }) => /^(plan-|Lageplan)/.test(name));
  const plan = plans.find(({ name }) => name === 'Lageplan Gräben.pdf') ?? plans[1];
  const large = fitting.find(({ type }) => type === 'video/mp4') ?? plans.find((file) => file !== plan);
  return [large, plan].filter((file) => file !== undefined);
}

function made(path: string, file: Attachment, modified: number): ScenarioFile {
  return {
    path: path.split('/').map(encoded).join('/'),
    type: file.type,
    modified,
    size: file.octets,
    octets: () => fileOctets(file, LETTER_LINES),
  };
}

function encoded(name: string): string {
  return memberPath('', name);
}
