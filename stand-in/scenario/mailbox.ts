import type { Attachment } from '../files/body';
import { LEAVING_KINDS, LEAVING_PORT } from '../leaving';
import type { LinePool, TextSegment } from '../message/content';
import { generatedItem, type Item } from '../message/item';
import { Random, seedOf } from '../message/random';
import { compose, type Letter } from './compose';
import { ODDITIES } from './oddities';
import {
  BEES_LIST,
  COMMITTEE,
  FENWATER,
  FORMS,
  METERS,
  PARISH,
  type Person,
  people,
  SECRETARY,
  SUPPLY_POST,
  shops,
  WEATHER,
} from './people';
import { LETTER_LINES, LIST_LINES, NOTICE_LINES, OFFER_LINES, SUBJECTS } from './words';

export type ScenarioSize = 'full' | 'small';

/** A folder of the scenario. */
export interface ScenarioFolder {
  name: string;
  use?: '\\Sent' | '\\Drafts' | '\\Junk' | '\\Trash' | '\\Archive';
  /** Its figures, where its messages are made when somebody looks at them. */
  outline?: { messages: number; bytes: number; unseen: number; make(): OutlinedMessage[] };
}

/** A message of a folder that was only outlined. */
export interface OutlinedMessage {
  item: Item;
  /** Seconds since the epoch; and when it came into this folder, where that was later. */
  received: number;
  saved?: number;
  seen: boolean;
}

/** A message of the scenario, in the order of arrival. */
export interface ScenarioMessage {
  folder: string;
  item: Item;
  /** Seconds since the epoch. */
  received: number;
  seen: boolean;
  answered: boolean;
  flagged: boolean;
  draft: boolean;
  keywords?: string[];
}

export interface Scenario {
  folders: ScenarioFolder[];
  messages: ScenarioMessage[];
  /** Octets of the limit, and of what shares the quota without being mail. */
  limit: number;
  notMail: number;
  /** Attached files, in the order in which their messages were written. */
  attached?: Attachment[];
}

export const FOLDERS: ScenarioFolder[] = [
  { name: 'INBOX' },
  { name: 'Committee' },
  { name: 'Committee/Minutes' },
  { name: 'Committee/Site plans' },
  { name: 'Suppliers' },
  { name: 'Suppliers/Invoices' },
  { name: 'Suppliers/Deliveries' },
  { name: 'Photographs' },
  { name: 'Photographs/Open days' },
  { name: 'Weather station' },
  { name: 'Water meters' },
  { name: 'Bees' },
  { name: 'Bees/Swarms' },
  { name: 'Council' },
  { name: 'Council/Planning' },
  { name: 'Plot holders' },
  { name: 'Plot holders/Leavers' },
  { name: 'Waiting list' },
  { name: 'Offers' },
  { name: 'Märkte & Feste' },
  { name: 'From the old computer' },
  { name: 'Conflicts' },
  { name: 'Archive', use: '\\Archive' },
  { name: 'Archive/2019', use: '\\Archive' },
  { name: 'Sent', use: '\\Sent' },
  { name: 'Drafts', use: '\\Drafts' },
  { name: 'Junk', use: '\\Junk' },
  { name: 'Trash', use: '\\Trash' },
];

const GIB = 2 ** 30;
const YEARS = 9;
const DAY = 86_400;

/** Share of the limit that is in use, and what of the limit is not mail, and is trash; all of 10 GiB. */
const USED = 0.96;
const NOT_MAIL = 0.04;
const TRASH = 0.05;

/** A catalogue that was mailed again and again. */
const AUTUMN_CATALOGUE: Attachment = {
  name: 'autumn catalogue.pdf',
  type: 'application/pdf',
  seed: 1_011,
  octets: 1_900_000,
};
const MAILED_AGAIN = 11;
/** Answers on the list that quote each other. */
const MOST_ANSWERS = 6;
/** Letters that lie in the folder of an old computer, and nowhere else. */
const ONLY_THERE = 2;
/** Photographs of one summer evening, and what they show. */
const EVENING = { pictures: 9, view: 4, octets: 560_000 };

/** A message that is planned but for its scaled files. */
interface Plan {
  folder: string;
  letter: Letter;
  /** Whether its files grow with the scale that makes the whole come out right. */
  scaled: boolean;
  seen?: number;
  answered?: number;
  flagged?: number;
}

/**
 * The mailbox of the secretary of an allotment association, nine years of it up to a day.
 *
 * Its shape (how many, how large, how skewed) is that of real mailboxes, as common practice has it; there is no source.
 *
 * @param day the last day, `YYYY-MM-DD`.
 * @param leavingPort where senders are asked to stop, on this machine (leaving.ts).
 */
export function scenario(day: string, size: ScenarioSize, leavingPort = LEAVING_PORT): Scenario {
  const part = size === 'full' ? 1 : 1 / 20;
  const limit = 10 * GIB * part;
  const writer = new Writer(Date.parse(`${day}T18:00:00Z`) / 1000, part, leavingPort);
  const plans = writer.write();
  const target = limit * (USED - NOT_MAIL);
  const items = scaleTo(target, plans, limit * TRASH);
  const messages = items.map(({ plan, item }) => placed(plan, item));
  messages.push(
    ...duplicates(messages, Math.round(600 * part), target - messages.reduce((sum, { item }) => sum + item.size, 0)),
  );
  messages.push(...oddities(Math.max(ODDITIES.length, Math.round(60 * part)), writer.end));
  messages.sort((a, b) => a.received - b.received);
  const attached = items.flatMap(({ letter }) => letter.files ?? []);
  return { folders: FOLDERS, messages, limit, notMail: Math.round(limit * NOT_MAIL), attached };
}

function placed(plan: Plan, item: Item): ScenarioMessage {
  const random = new Random(seedOf(plan.letter.seed, 5));
  return {
    folder: plan.folder,
    item,
    received: (plan.letter.date ?? 0) + 4 + random.below(40),
    seen: random.chance(plan.seen ?? 0.9),
    answered: random.chance(plan.answered ?? 0),
    flagged: random.chance(plan.flagged ?? 0.004),
    draft: plan.folder === 'Drafts',
    keywords: keywordsOf(plan.folder, random),
  };
}

/** What the secretary's programs mark: invoices as paid, and what was passed on (`$Forwarded`, RFC 5788). */
function keywordsOf(folder: string, random: Random): string[] {
  const keywords = folder === 'Suppliers/Invoices' && random.chance(0.6) ? ['Paid'] : [];
  return random.chance(0.02) ? ['$Forwarded', ...keywords] : keywords;
}

/** Makes items of plans, the scaled files grown so that all together come to a number of octets. */
function scaleTo(octets: number, plans: Plan[], trashOctets: number): { plan: Plan; letter: Letter; item: Item }[] {
  const filesOf = (plan: Plan) => (plan.letter.files ?? []).reduce((sum, file) => sum + file.octets * 1.369, 0);
  const sized = plans.map((plan) => ({
    plan,
    item: plan.scaled ? undefined : generatedItem(() => compose(plan.letter)),
  }));
  const scaleIn = (trash: boolean, aim: number) => {
    let fixed = 0;
    let scaled = 0;
    for (const { plan, item } of sized) {
      if ((plan.folder === 'Trash') !== trash) continue;
      if (item) fixed += item.size;
      else scaled += filesOf(plan);
    }
    return (aim - fixed) / scaled;
  };
  const scale = { trash: scaleIn(true, trashOctets), mail: scaleIn(false, octets * 0.994 - trashOctets) };
  return sized.map(({ plan, item }) => {
    if (item) return { plan, letter: plan.letter, item };
    const factor = plan.folder === 'Trash' ? scale.trash : scale.mail;
    const files = plan.letter.files?.map((file) => ({ ...file, octets: Math.round(file.octets * factor) })) ?? [];
    const letter = { ...plan.letter, files };
    return { plan, letter, item: generatedItem(() => compose(letter)) };
  });
}

/** Exact copies of messages, as a badly made import leaves them. */
function duplicates(messages: readonly ScenarioMessage[], count: number, room: number): ScenarioMessage[] {
  const random = new Random(4711);
  const copies: ScenarioMessage[] = [];
  let left = room;
  for (let tries = 0; copies.length < count && tries < count * 50; tries++) {
    const original = random.pick(messages);
    if (
      original.folder === 'Trash' ||
      original.folder === 'Drafts' ||
      original.item.size > (left / (count - copies.length)) * 2
    )
      continue;
    left -= original.item.size;
    const folder = random.chance(0.8) ? 'From the old computer' : original.folder;
    // Two programs that changed one folder at a time leave both sides.
    copies.push({ ...original, folder: copies.length % 15 === 14 ? 'Conflicts' : folder });
  }
  return copies;
}

function oddities(count: number, end: number): ScenarioMessage[] {
  return Array.from({ length: count }, (_, n) => {
    const make = ODDITIES[n % ODDITIES.length] as (n: number) => ReturnType<(typeof ODDITIES)[number]>;
    const base = { seen: n % 2 === 0, answered: false, flagged: false, draft: false };
    return {
      ...base,
      folder: n % 3 === 0 ? 'Märkte & Feste' : 'INBOX',
      item: generatedItem(() => make(n)),
      received: end - (n + 1) * 37 * DAY,
    };
  });
}

/** What the host says of a signature (RFC 8601 §2.7.1). */
function foundOf(domain: string, result: 'pass' | 'fail'): string {
  return `mx.saltmarshlane.example;\r\n dkim=${result} header.d=${domain} header.s=post;\r\n dmarc=${result} header.from=${domain}`;
}

/** A signature that covers how one leaves a sender. Its host has looked at it; its octets are none. */
function signatureOf(domain: string): [string, string] {
  const covered = 'from:to:subject:list-unsubscribe:list-unsubscribe-post';
  return ['DKIM-Signature', `v=1; a=ed25519-sha256; c=relaxed/relaxed; d=${domain}; s=post;\r\n h=${covered}; bh=; b=`];
}

/** Photographs of one scene, each a little beside the others. */
function evening(seed: number): Attachment[] {
  const { pictures, view, octets } = EVENING;
  return Array.from({ length: pictures }, (_, take) => ({
    name: `IMG_${7100 + take}.jpg`,
    type: 'image/jpeg',
    seed: seedOf(seed, 100 + take),
    octets: Math.round(octets * (1 + 0.05 * ((take * 4) % pictures))),
    ...{ view, take },
  }));
}

/** What was said, one mark of quoting deeper. */
function quoted(said: readonly TextSegment[]): TextSegment[] {
  return said.map((segment) => ({ ...segment, depth: segment.depth + 1 }));
}

/** How one leaves a sender: most by one click, some by a mail or a page alone, and some answer badly. */
function leaving(host: string, seed: number, port: number): [string, string][] {
  const kind =
    LEAVING_KINDS[
      seedOf(
        [...host].reduce((sum, letter) => sum + letter.charCodeAt(0), 0),
        3,
      ) % LEAVING_KINDS.length
    ];
  const token = seed.toString(36);
  const mail = `<mailto:leave@${host}?subject=${token}>`;
  const page = `<https://localhost:${port}/leave/${kind}/${host}/${token}>`;
  const bulk: [string, string] = ['Precedence', 'bulk'];
  if (kind === 'mail') return [['List-Unsubscribe', mail], bulk];
  if (kind === 'page') return [['List-Unsubscribe', page], bulk];
  return [['List-Unsubscribe', `${mail},\r\n ${page}`], ['List-Unsubscribe-Post', 'List-Unsubscribe=One-Click'], bulk];
}

/** Writes the plans, one method a kind of mail. */
class Writer {
  private readonly start: number;
  private serial = 0;
  private readonly plans: Plan[] = [];
  private readonly holders = people(900, 11);
  private readonly keepers = people(150, 12, 'bees.example');
  private readonly shops = shops(60, 13, 'news');
  private readonly suppliers = shops(85, 14, 'accounts').slice(60);
  private readonly oneOffs = shops(400, 15, 'no-reply').slice(85);

  constructor(
    readonly end: number,
    private readonly part: number,
    private readonly leavingPort: number,
  ) {
    this.start = end - YEARS * 365.25 * DAY;
  }

  write(): Plan[] {
    this.regular(WEATHER, 18_000, 'Weather station', 'Weather at Saltmarsh Lane', 0.02);
    this.regular(METERS, 3_650, 'Water meters', 'Meter reading', 0.03);
    this.offers([FENWATER], 5_500, 'INBOX', 0.12);
    this.offers([SUPPLY_POST], 2_900, 'Offers', 0.08);
    this.offers(this.shops, 20_500, 'INBOX', 0.75);
    this.bees(8_000);
    this.orders(7_000);
    this.committee(5_000);
    this.letters(9_000);
    this.council(4_200);
    this.forms(1_900);
    this.notices(1_600);
    this.photographs(1_300);
    this.catalogues(160);
    this.films(44);
    this.sent(6_000);
    this.drafts(61);
    this.junk(3_300);
    this.trash(5_190);
    return this.plans;
  }

  private count(full: number): number {
    return Math.max(1, Math.round(full * this.part));
  }

  private seed(): number {
    return seedOf(2027, this.serial++);
  }

  /** More of it in later years. */
  private when(random: Random): number {
    return Math.floor(this.start + (this.end - this.start) * random.next() ** 0.72);
  }

  private id(seed: number, from: Person): string {
    return `<${seed.toString(36)}.${(seed ^ 0x5bd1e995) >>> 0}@${from.address.split('@')[1]}>`;
  }

  private lines(seed: number, count: number, pool: LinePool): TextSegment[] {
    return [{ seed, lines: count, pool, depth: 0 }];
  }

  private add(
    folder: string,
    letter: Letter,
    rest: Omit<Plan, 'folder' | 'letter' | 'scaled'> & { scaled?: boolean } = {},
  ): void {
    this.plans.push({ folder, letter, scaled: false, ...rest });
  }

  /** A machine that writes at even intervals. */
  private regular(from: Person, full: number, folder: string, subject: string, seen: number): void {
    const count = this.count(full);
    for (let n = 0; n < count; n++) {
      const seed = this.seed();
      const random = new Random(seed);
      const date = Math.floor(this.start + ((this.end - this.start) * (n + 1)) / count);
      const hour = new Date(date * 1000).toISOString().slice(0, 13).replace('T', ' ');
      this.add(
        random.chance(0.12) ? 'INBOX' : folder,
        {
          seed,
          date,
          from,
          to: [SECRETARY],
          subject: `${subject}, ${hour} h`,
          messageId: this.id(seed, from),
          extra: [
            ['Auto-Submitted', 'auto-generated'],
            ['Precedence', 'bulk'],
          ],
          text: this.lines(seed, random.between(18, 50), NOTICE_LINES),
        },
        { seen: random.chance(0.9) ? 0.92 : seen },
      );
    }
  }

  private offer(from: Person, seed: number, date: number, files: Attachment[] = [], forged = false): Letter {
    const random = new Random(seed);
    const host = from.address.split('@')[1] ?? '';
    return {
      seed,
      date,
      from,
      to: [SECRETARY],
      subject: random.pick(SUBJECTS.offers),
      messageId: this.id(seed, from),
      found: foundOf(host, forged ? 'fail' : 'pass'),
      extra: [signatureOf(host), ['List-Id', `${from.name} <news.${host}>`], ...leaving(host, seed, this.leavingPort)],
      text: this.lines(seed, random.between(6, 20), LETTER_LINES),
      html: { pool: OFFER_LINES, lines: Math.round(Math.min(900, random.spread(210, 0.55))) },
      files,
    };
  }

  private offers(from: readonly Person[], full: number, folder: string, elsewhere: number): void {
    const count = this.count(full);
    for (let n = 0; n < count; n++) {
      const seed = this.seed();
      const random = new Random(seed);
      // A few shops write most of it.
      const shop = from[Math.floor(from.length * random.next() ** 2)] as Person;
      const place = random.chance(elsewhere) ? 'Offers' : folder;
      const isCatalogue = shop === FENWATER && n < MAILED_AGAIN;
      this.add(place, this.offer(shop, seed, this.when(random), isCatalogue ? [AUTUMN_CATALOGUE] : []), {
        seen: 0.87,
        scaled: isCatalogue,
      });
    }
  }

  private bees(full: number): void {
    const count = this.count(full);
    let last: { subject: string; text: TextSegment[]; date: number; references: string[] } | undefined;
    for (let n = 0; n < count; n++) {
      const seed = this.seed();
      const random = new Random(seed);
      const from = this.keepers[Math.floor(this.keepers.length * random.next() ** 2)] as Person;
      const files = random.chance(0.02) ? [this.picture(seed, random.spread(240_000, 0.5), n)] : [];
      const folder = random.chance(0.1) ? 'Bees/Swarms' : 'Bees';
      const written = this.when(random);
      const subject = `[bees] ${random.chance(0.6) ? 'Re: ' : ''}${random.pick(SUBJECTS.bees)}`;
      const messageId = this.id(seed, from);
      const own = this.lines(seed, random.between(6, 30), LIST_LINES);
      const said: TextSegment = { seed: seed + 1, lines: random.between(0, 40), pool: LIST_LINES, depth: 1 };
      // Draws of its own, so that the rest of the mailbox stays as it is. Many of the list quote all that was said.
      const answer = new Random(seedOf(seed, 43));
      const before = answer.chance(0.4) && last && last.references.length < MOST_ANSWERS ? last : undefined;
      const letter = {
        date: before ? Math.min(this.end, before.date + answer.between(900, DAY)) : written,
        subject: before ? `Re: ${before.subject.replace(/^Re: /, '')}` : subject,
        text: before ? [...own, { line: '', depth: 0 }, ...quoted(before.text)] : [...own, said],
        references: before?.references ?? [],
      };
      last = { ...letter, references: [...letter.references, messageId] };
      this.add(
        folder,
        {
          seed,
          from,
          to: [{ name: BEES_LIST.name, address: BEES_LIST.address }],
          messageId,
          ...letter,
          found: foundOf('bees.example', 'pass'),
          extra: [
            ['List-Id', `${BEES_LIST.name} <${BEES_LIST.id}>`],
            ['List-Post', `<mailto:${BEES_LIST.address}>`],
            ['List-Unsubscribe', '<mailto:leave-talk@bees.example>'],
            ['Precedence', 'list'],
          ],
          files,
        },
        { seen: 0.85, answered: 0.01 },
      );
    }
  }

  private orders(full: number): void {
    const count = this.count(full);
    for (let n = 0; n < count; n++) {
      const seed = this.seed();
      const random = new Random(seed);
      const from = this.suppliers[Math.floor(this.suppliers.length * random.next() ** 1.6)] as Person;
      const what = random.pick(SUBJECTS.orders);
      const number = `${20_000 + random.below(70_000)}`;
      const pdf = {
        name: `${what.replace(/ /g, '-')}-${number}.pdf`,
        type: 'application/pdf',
        seed,
        octets: Math.round(random.spread(95_000, 0.55)),
      };
      this.add(
        what === 'Delivery note' ? 'Suppliers/Deliveries' : random.chance(0.7) ? 'Suppliers/Invoices' : 'Suppliers',
        {
          seed,
          date: this.when(random),
          from,
          to: [SECRETARY],
          subject: `${what} ${number}`,
          messageId: this.id(seed, from),
          extra: [['Auto-Submitted', 'auto-generated']],
          text: this.lines(seed, random.between(8, 16), LETTER_LINES),
          files: random.chance(0.85) ? [pdf] : [],
        },
        { seen: 0.96, flagged: 0.01 },
      );
    }
  }

  /** Threads in which every answer quotes all that was said before it, and some carry the same file again. */
  private committee(full: number): void {
    const count = this.count(full);
    for (let written = 0, thread = 0; written < count; thread++) {
      const threadSeed = this.seed();
      const random = new Random(threadSeed);
      const subject = `${random.pick(SUBJECTS.committee)}${random.chance(0.3) ? `, ${random.between(2, 9)}` : ''}`;
      const length = Math.min(count - written, random.between(2, 18));
      const folder = random.pick([
        'Committee',
        'Committee',
        'Committee/Minutes',
        'Committee/Site plans',
        'INBOX',
        'Archive',
        'Archive/2019',
      ]);
      const plan: Attachment | undefined = random.chance(0.22)
        ? {
            name: random.chance(0.3) ? 'Lageplan Gräben.pdf' : `plan-${thread}.pdf`,
            type: 'application/pdf',
            seed: threadSeed,
            octets: Math.round(random.spread(210_000, 0.6)),
          }
        : undefined;
      // A draw of its own, so that the rest of the mailbox stays as it is.
      const invites = new Random(seedOf(threadSeed, 41)).chance(0.15);
      const meeting = { name: 'meeting.ics', type: 'text/calendar', seed: threadSeed, octets: 1_400 };
      let date = this.when(random);
      let said: TextSegment[] = [];
      const references: string[] = [];
      for (let n = 0; n < length; n++, written++) {
        const seed = this.seed();
        const from = random.pick(COMMITTEE);
        const own = this.lines(seed, random.between(3, 14), LETTER_LINES);
        const text = n === 0 ? own : [...own, { line: '', depth: 0 }, ...quoted(said)];
        const messageId = this.id(seed, from);
        this.add(
          folder,
          {
            seed,
            date: Math.min(date, this.end),
            from,
            to: [SECRETARY],
            cc: COMMITTEE.slice(0, 4),
            subject: n === 0 ? subject : `Re: ${subject}`,
            messageId,
            references: [...references],
            text,
            files: [
              ...(plan && (n === 0 || random.chance(0.3)) ? [plan] : []),
              ...(invites && n === 0 ? [meeting] : []),
            ],
          },
          { seen: 0.98, answered: 0.3, flagged: 0.02 },
        );
        references.push(messageId);
        said = text;
        date += random.between(1_200, 2 * DAY);
      }
    }
  }

  private letters(full: number): void {
    const count = this.count(full);
    for (let n = 0; n < count; n++) {
      const seed = this.seed();
      const random = new Random(seed);
      const from = this.holders[Math.floor(this.holders.length * random.next() ** 1.4)] as Person;
      const files = random.chance(0.05) ? [this.picture(seed, random.spread(300_000, 0.6), n)] : [];
      this.add(
        n < ONLY_THERE
          ? 'From the old computer'
          : random.pick(['Plot holders', 'Plot holders', 'INBOX', 'Plot holders/Leavers']),
        {
          seed,
          date: this.when(random),
          from,
          to: [SECRETARY],
          subject: `${random.chance(0.4) ? 'Re: ' : ''}${random.pick(SUBJECTS.letters)}`,
          messageId: this.id(seed, from),
          text: this.lines(seed, random.between(3, 30), LETTER_LINES),
          files,
        },
        { seen: 0.97, answered: 0.35, flagged: 0.015 },
      );
    }
  }

  private council(full: number): void {
    const count = this.count(full);
    for (let n = 0; n < count; n++) {
      const seed = this.seed();
      const random = new Random(seed);
      const what = random.pick(SUBJECTS.council);
      const files = random.chance(0.25)
        ? [
            {
              name: `${what} ${n}.pdf`,
              type: 'application/pdf',
              seed: seedOf(9, n % 300),
              octets: Math.round(random.spread(120_000, 0.7)),
            },
          ]
        : [];
      this.add(
        random.chance(0.2) ? 'Council/Planning' : random.chance(0.75) ? 'Council' : 'INBOX',
        {
          seed,
          date: this.when(random),
          from: PARISH,
          to: [SECRETARY],
          subject: `${what} ${n + 1}`,
          messageId: this.id(seed, PARISH),
          found: foundOf('parish.example', 'pass'),
          extra: [
            ['List-Unsubscribe', '<mailto:leave@parish.example>'],
            ['Precedence', 'bulk'],
          ],
          text: this.lines(seed, random.between(10, 60), LETTER_LINES),
          files,
        },
        { seen: 0.8 },
      );
    }
  }

  private forms(full: number): void {
    const count = this.count(full);
    for (let n = 0; n < count; n++) {
      const seed = this.seed();
      const random = new Random(seed);
      const who = random.pick(this.holders);
      this.add('Waiting list', {
        seed,
        date: this.when(random),
        from: FORMS,
        to: [SECRETARY],
        subject: `New entry on the waiting list: ${who.name}`,
        messageId: this.id(seed, FORMS),
        extra: [
          ['Auto-Submitted', 'auto-generated'],
          ['Reply-To', who.address],
        ],
        text: this.lines(seed, random.between(8, 14), LETTER_LINES),
      });
    }
  }

  /** Hundreds of programs that each wrote a few times. */
  private notices(full: number): void {
    const count = this.count(full);
    for (let n = 0; n < count; n++) {
      const seed = this.seed();
      const random = new Random(seed);
      const from = random.pick(this.oneOffs);
      this.add('INBOX', {
        seed,
        date: this.when(random),
        from,
        to: [SECRETARY],
        subject: 'Your account: please confirm your address',
        messageId: this.id(seed, from),
        extra: [['Auto-Submitted', 'auto-generated']],
        text: this.lines(seed, random.between(5, 30), NOTICE_LINES),
        html: { pool: OFFER_LINES, lines: random.between(20, 90) },
      });
    }
  }

  private picture(seed: number, octets: number, n: number): Attachment {
    return { name: `IMG_${1000 + (n % 9000)}.jpg`, type: 'image/jpeg', seed, octets: Math.round(octets) };
  }

  /** Photographs of plots and open days; a quarter of them hold most of the bytes. */
  private photographs(full: number): void {
    const count = this.count(full);
    let hasEvening = false;
    for (let n = 0; n < count; n++) {
      const seed = this.seed();
      const random = new Random(seed);
      const from = random.chance(0.6) ? (COMMITTEE[0] as Person) : random.pick(COMMITTEE);
      const large = random.chance(0.24);
      const number = large ? random.between(3, 14) : random.between(1, 3);
      const files = Array.from({ length: number }, (_, k) =>
        this.picture(seedOf(seed, k), random.spread(large ? 1_150_000 : 420_000, 0.3), n * 7 + k),
      );
      const isEvening = large && !hasEvening;
      hasEvening ||= large;
      const folder = random.pick([
        ...['Photographs', 'Photographs', 'Photographs/Open days', 'Committee/Site plans', 'INBOX'],
      ]);
      const written = this.when(random);
      const subject = random.pick([
        'Open day, photographs',
        'Plot inspection, pictures',
        'Summer show, winners',
        'The flood on the lower plots',
        'Hedge laying, photographs attached',
      ]);
      this.add(
        folder,
        {
          seed,
          date: isEvening ? this.summerEvening(written) : written,
          from,
          to: [SECRETARY],
          subject: isEvening ? 'The summer evening at the pond' : subject,
          messageId: this.id(seed, from),
          text: this.lines(seed, random.between(2, 8), LETTER_LINES),
          files: isEvening ? evening(seed) : files,
        },
        { scaled: large, seen: 0.98, answered: 0.2, flagged: 0.03 },
      );
    }
  }

  /** The last evening of a July before a moment. */
  private summerEvening(before: number): number {
    const year = new Date(before * 1000).getUTCFullYear();
    const [same, last] = [year, year - 1].map((one) => Date.UTC(one, 6, 12, 19, 40) / 1000) as [number, number];
    return same <= before ? same : last;
  }

  private catalogues(full: number): void {
    const count = this.count(full);
    for (let n = 0; n < count; n++) {
      const seed = this.seed();
      const random = new Random(seed);
      const from = random.chance(0.4) ? FENWATER : (this.shops[random.below(12)] as Person);
      const pdf = {
        name: 'catalogue.pdf',
        type: 'application/pdf',
        seed,
        octets: Math.round(random.spread(6_200_000, 0.3)),
      };
      this.add(random.chance(0.5) ? 'INBOX' : 'Offers', this.offer(from, seed, this.when(random), [pdf]), {
        scaled: true,
        seen: 0.7,
      });
    }
  }

  private films(full: number): void {
    const count = this.count(full);
    for (let n = 0; n < count; n++) {
      const seed = this.seed();
      const random = new Random(seed);
      const from = COMMITTEE[0] as Person;
      const film = {
        name: `flight-${n + 1}.mp4`,
        type: 'video/mp4',
        seed,
        octets: Math.round(random.between(14_000_000, 26_000_000)),
      };
      this.add(
        'Photographs',
        {
          seed,
          date: this.when(random),
          from,
          to: [SECRETARY],
          subject: `Drone film of the plots, flight ${n + 1}`,
          messageId: this.id(seed, from),
          text: this.lines(seed, 4, LETTER_LINES),
          files: [film],
        },
        { scaled: true, seen: 0.98 },
      );
    }
  }

  private sent(full: number): void {
    const count = this.count(full);
    for (let n = 0; n < count; n++) {
      const seed = this.seed();
      const random = new Random(seed);
      const to = random.chance(0.35)
        ? random.pick(COMMITTEE)
        : (this.holders[Math.floor(this.holders.length * random.next() ** 2)] as Person);
      const files = random.chance(0.12)
        ? [{ name: 'lease.pdf', type: 'application/pdf', seed: seedOf(3, n % 40), octets: 160_000 + (n % 40) * 9_000 }]
        : [];
      this.add(
        'Sent',
        {
          seed,
          date: this.when(random),
          from: SECRETARY,
          to: [to],
          subject: `Re: ${random.pick(SUBJECTS.letters)}`,
          messageId: this.id(seed, SECRETARY),
          text: [
            ...this.lines(seed, random.between(3, 20), LETTER_LINES),
            { seed: seed + 1, lines: random.between(0, 30), pool: LETTER_LINES, depth: 1 },
          ],
          files,
        },
        { seen: 1 },
      );
    }
  }

  private drafts(full: number): void {
    const count = this.count(full);
    for (let n = 0; n < count; n++) {
      const seed = this.seed();
      const random = new Random(seed);
      const files = random.chance(0.4) ? [this.picture(seed, random.spread(1_500_000, 0.5), n)] : [];
      this.add(
        'Drafts',
        {
          seed,
          date: this.when(random),
          from: SECRETARY,
          to: [random.pick(this.holders)],
          subject: random.pick(SUBJECTS.letters),
          messageId: this.id(seed, SECRETARY),
          text: this.lines(seed, random.between(1, 8), LETTER_LINES),
          files,
        },
        { seen: 1 },
      );
    }
  }

  private junk(full: number): void {
    const count = this.count(full);
    for (let n = 0; n < count; n++) {
      const seed = this.seed();
      const random = new Random(seed);
      const from = random.pick(this.oneOffs);
      this.add('Junk', this.offer(from, seed, this.end - random.below(400 * DAY), [], random.chance(0.5)), {
        seen: 0.1,
      });
    }
  }

  /** What somebody threw away already: mostly offers, and some large catalogues among them. */
  private trash(full: number): void {
    const count = this.count(full);
    for (let n = 0; n < count; n++) {
      const seed = this.seed();
      const random = new Random(seed);
      const from = random.pick([FENWATER, SUPPLY_POST, ...this.shops]);
      const large = random.chance(0.06);
      const pdf = {
        name: 'price list.pdf',
        type: 'application/pdf',
        seed,
        octets: Math.round(random.spread(1_000_000, 0.6)),
      };
      this.add('Trash', this.offer(from, seed, this.when(random), large ? [pdf] : []), { scaled: large, seen: 0.8 });
    }
  }
}
