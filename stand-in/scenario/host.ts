import { type Entity, entitySize } from '../message/entity';
import { sizedItem } from '../message/item';
import { Random, seedOf } from '../message/random';
import { compose, type Letter } from './compose';
import type { OutlinedMessage, Scenario, ScenarioFolder, ScenarioSize } from './mailbox';
import { type Person, people, shops } from './people';
import { LETTER_LINES, OFFER_LINES, SUBJECTS } from './words';

/** What is made up of one of the mailboxes of a small host. Octets; shares are parts of one. */
interface Sketch {
  user: string;
  limit: number;
  used: number;
  messages: number;
  notMail?: number;
  /** What of the messages lies in Junk and Trash. */
  junk?: number;
  trash?: number;
  unseen?: number;
  /** What comes in a day. */
  grows?: { bytes: number; messages: number };
  /** The operator may not open it. */
  closed?: true;
}

const MIB = 2 ** 20;
const GIB = 2 ** 30;
const DAY = 86_400;

/** Messages that a mailbox of this host may hold. */
export const MESSAGE_LIMIT = 250_000;

/** Who looks after the mailboxes of the host. */
export const OPERATOR = { user: 'postmaster@saltmarshlane.example', password: 'shed keys' };

const sketch = (user: string, used: number, limit: number, messages: number, more: Partial<Sketch> = {}): Sketch => ({
  ...{ user: `${user}.example`, used, limit, messages },
  ...more,
});

/** Forty with that of the secretary, in two domains. Figures are made up. */
const SKETCHES: Sketch[] = [
  sketch('plots@saltmarshlane', 2 * GIB, 2 * GIB, 18_004, { grows: { bytes: 1.6 * MIB, messages: 14 }, trash: 0.06 }),
  sketch('treasurer@saltmarshlane', 4.9 * GIB, 5 * GIB, 41_220, {
    grows: { bytes: 11 * MIB, messages: 26 },
    trash: 0.11,
  }),
  sketch('r.pettifer@saltmarshlane', 3.1 * GIB, 5 * GIB, 29_400, {
    grows: { bytes: 0.1 * MIB, messages: 2 },
    unseen: 0.3,
  }),
  sketch('everything-else@saltmarshlane', 0.31 * GIB, GIB, 249_870, {
    junk: 0.985,
    unseen: 1,
    grows: { bytes: 0.05 * MIB, messages: 41 },
  }),
  sketch('bees@saltmarshlane', 1.2 * GIB, 5 * GIB, 22_118, { grows: { bytes: 2.1 * MIB, messages: 21 } }),
  sketch('chair@saltmarshlane', 1.9 * GIB, 5 * GIB, 15_730, { grows: { bytes: 1.3 * MIB, messages: 9 } }),
  sketch('membership@saltmarshlane', 2.2 * GIB, 5 * GIB, 31_411, { grows: { bytes: 2.4 * MIB, messages: 17 } }),
  sketch('gate@saltmarshlane', 0.02 * GIB, GIB, 5_840, { grows: { bytes: 0.02 * MIB, messages: 8 } }),
  sketch('tools@saltmarshlane', 0.4 * GIB, 2 * GIB, 3_902, { grows: { bytes: 0.4 * MIB, messages: 3 } }),
  sketch('seeds@saltmarshlane', 0.7 * GIB, 2 * GIB, 6_120, { grows: { bytes: 0.5 * MIB, messages: 5 } }),
  sketch('orchard@saltmarshlane', 1.1 * GIB, 2 * GIB, 4_015, { grows: { bytes: 1.0 * MIB, messages: 3 } }),
  sketch('minutes@saltmarshlane', 0.9 * GIB, 2 * GIB, 2_980, { grows: { bytes: 0.6 * MIB, messages: 2 } }),
  sketch('waterrota@saltmarshlane', 0.1 * GIB, GIB, 4_444, { grows: { bytes: 0.1 * MIB, messages: 4 } }),
  sketch('shop@saltmarshlane', 1.7 * GIB, 2 * GIB, 12_907, { grows: { bytes: 1.9 * MIB, messages: 12 }, trash: 0.2 }),
  sketch('events@saltmarshlane', 0.8 * GIB, 2 * GIB, 5_021, { grows: { bytes: 0.9 * MIB, messages: 4 } }),
  sketch('newsletter@saltmarshlane', 0.5 * GIB, 2 * GIB, 9_760, { grows: { bytes: 0.3 * MIB, messages: 11 } }),
  sketch('waitinglist@saltmarshlane', 0.2 * GIB, GIB, 3_377, { grows: { bytes: 0.2 * MIB, messages: 3 } }),
  sketch('compost@saltmarshlane', 0.05 * GIB, GIB, 610, { grows: { bytes: 0.03 * MIB, messages: 1 } }),
  sketch('postmaster@saltmarshlane', 0.3 * GIB, 2 * GIB, 8_001, {
    grows: { bytes: 0.2 * MIB, messages: 9 },
    junk: 0.3,
  }),
  sketch('fax@saltmarshlane', 0.6 * GIB, 2 * GIB, 7_215, { unseen: 1, grows: { bytes: 0.5 * MIB, messages: 6 } }),
  sketch('shows@marshnet', 4.4 * GIB, 5 * GIB, 12_033, { grows: { bytes: 2.6 * MIB, messages: 10 } }),
  sketch('office@marshnet', 7.7 * GIB, 10 * GIB, 88_310, {
    grows: { bytes: 2.9 * MIB, messages: 58 },
    notMail: 0.1 * GIB,
  }),
  sketch('hut@marshnet', 0.1 * GIB, GIB, 912, { closed: true }),
  sketch('info@marshnet', 1.4 * GIB, 2 * GIB, 16_200, { grows: { bytes: 0.9 * MIB, messages: 15 }, junk: 0.2 }),
  sketch('accounts@marshnet', 3.3 * GIB, 5 * GIB, 27_300, { grows: { bytes: 2.2 * MIB, messages: 16 } }),
  sketch('bookings@marshnet', 1.0 * GIB, 2 * GIB, 11_870, { grows: { bytes: 0.8 * MIB, messages: 9 } }),
  sketch('press@marshnet', 1.5 * GIB, 2 * GIB, 6_640, { grows: { bytes: 1.2 * MIB, messages: 5 } }),
  sketch('volunteers@marshnet', 0.9 * GIB, 2 * GIB, 7_981, { grows: { bytes: 0.7 * MIB, messages: 7 } }),
  sketch('wardens@marshnet', 0.3 * GIB, GIB, 4_205, { grows: { bytes: 0.2 * MIB, messages: 4 } }),
  sketch('ferry@marshnet', 0.1 * GIB, GIB, 2_760, { grows: { bytes: 0.1 * MIB, messages: 3 } }),
  sketch('tides@marshnet', 0.02 * GIB, GIB, 8_760, { grows: { bytes: 0.02 * MIB, messages: 8 }, unseen: 0.9 }),
  sketch('library@marshnet', 0.6 * GIB, 2 * GIB, 5_550, { grows: { bytes: 0.3 * MIB, messages: 4 } }),
  sketch('choir@marshnet', 1.8 * GIB, 2 * GIB, 6_904, { grows: { bytes: 1.1 * MIB, messages: 6 }, trash: 0.15 }),
  sketch('federation@marshnet', 0.7 * GIB, 2 * GIB, 3_130, { grows: { bytes: 0.4 * MIB, messages: 2 } }),
  sketch('scanner@marshnet', 1.9 * GIB, 2 * GIB, 4_410, { grows: { bytes: 2.5 * MIB, messages: 4 } }),
  sketch('noreply@marshnet', 0.04 * GIB, GIB, 19_321, { grows: { bytes: 0.04 * MIB, messages: 22 }, unseen: 1 }),
  sketch('webmaster@marshnet', 0.2 * GIB, GIB, 6_006, { grows: { bytes: 0.1 * MIB, messages: 5 }, junk: 0.6 }),
  sketch('abuse@marshnet', 0.1 * GIB, GIB, 5_090, { grows: { bytes: 0.1 * MIB, messages: 4 }, junk: 0.5 }),
  sketch('kitchen@marshnet', 0.5 * GIB, GIB, 2_214, { grows: { bytes: 0.4 * MIB, messages: 2 } }),
];

/** A mailbox of the host, and what was measured of it in the past. */
export interface HostedMailbox {
  user: string;
  password: string;
  scenario: Scenario;
  closed: boolean;
}

/** One day of a mailbox's past. */
export interface PastDay {
  day: string;
  used: number;
  limit: number;
  messages: number;
  messageLimit: number;
  inboxMessages: number;
  inboxUnseen: number;
  counted: number;
}

/** Mailboxes of other people on the secretary's host. @param day the last one, `YYYY-MM-DD`. */
export function hostedMailboxes(day: string, size: ScenarioSize): HostedMailbox[] {
  const end = Date.parse(`${day}T18:00:00Z`) / 1000;
  return SKETCHES.map((each, index) => ({
    user: each.user,
    password: each.user === OPERATOR.user ? OPERATOR.password : `plot ${index + 1}`,
    scenario: scenarioOf(scaled(each, size), index, end),
    closed: each.closed ?? false,
  }));
}

/** The limit of messages for each. */
export function messageLimitOf(size: ScenarioSize): number {
  return Math.round(MESSAGE_LIMIT * partOf(size));
}

function partOf(size: ScenarioSize): number {
  return size === 'full' ? 1 : 1 / 20;
}

function scaled(of: Sketch, size: ScenarioSize): Sketch {
  const part = partOf(size);
  const whole = (number: number) => Math.round(number * part);
  const grows = of.grows && { bytes: whole(of.grows.bytes), messages: of.grows.messages * part };
  return {
    ...of,
    ...{ limit: whole(of.limit), used: whole(of.used), messages: whole(of.messages), notMail: whole(of.notMail ?? 0) },
    ...(grows ? { grows } : {}),
  };
}

/** Days of the past that are made up. */
const PAST_DAYS = 60;

/** How full the mailboxes were on the days before: for the demo, which has no past of its own. */
export function pastOf(day: string, size: ScenarioSize): Map<string, PastDay[]> {
  const end = Date.parse(`${day}T18:00:00Z`);
  return new Map(
    SKETCHES.map((each, index) => {
      const of = scaled(each, size);
      const days = Array.from({ length: of.closed ? 0 : PAST_DAYS }, (_, n): PastDay => {
        const back = PAST_DAYS - n;
        const random = new Random(seedOf(index, back, 97));
        const before = (amount: number) => amount * (back - 0.4 + 0.8 * random.next());
        const used = Math.max(0, Math.round(of.used - before(of.grows?.bytes ?? 0)));
        const came = Math.round((of.grows?.messages ?? 0) * back);
        const messages = Math.max(0, of.messages - came);
        const parts = partsOf(of);
        const inboxMessages = Math.max(0, parts.inbox - came);
        const unread = unseenOf(of, parts.inbox);
        const allUnread = (of.unseen ?? 0) >= 1;
        return {
          day: new Date(end - back * DAY * 1000).toISOString().slice(0, 10),
          ...{ used, limit: of.limit, messages, messageLimit: messageLimitOf(size), inboxMessages },
          inboxUnseen: allUnread
            ? inboxMessages
            : Math.min(inboxMessages, Math.round(unread * (0.7 + 0.6 * random.next()))),
          counted: Math.max(0, used - (of.notMail ?? 0)),
        };
      });
      return [each.user, days];
    }),
  );
}

/** The past of a mailbox whose messages are there: what of them had come by each day. */
export function pastOfScenario({ messages, limit, notMail }: Scenario, day: string, messageLimit: number): PastDay[] {
  const end = Date.parse(`${day}T18:00:00Z`);
  return Array.from({ length: PAST_DAYS }, (_, n): PastDay => {
    const at = end - (PAST_DAYS - n) * DAY * 1000;
    const there = messages.filter(({ received }) => received * 1000 <= at);
    const counted = there.reduce((sum, { item }) => sum + item.size, 0);
    const inbox = there.filter(({ folder }) => folder === 'INBOX');
    return {
      day: new Date(at).toISOString().slice(0, 10),
      ...{ used: counted + notMail, limit, messages: there.length, messageLimit, counted },
      inboxMessages: inbox.length,
      inboxUnseen: inbox.filter(({ seen }) => !seen).length,
    };
  });
}

interface Parts {
  inbox: number;
  sent: number;
  junk: number;
  trash: number;
}

function partsOf({ messages, junk = 0.02, trash = 0.04 }: Sketch): Parts {
  const inJunk = Math.round(messages * junk);
  const inTrash = Math.round((messages - inJunk) * trash);
  const rest = messages - inJunk - inTrash;
  const sent = junk > 0.9 ? 0 : Math.round(rest * 0.2);
  return { inbox: rest - sent, sent, junk: inJunk, trash: inTrash };
}

function unseenOf({ unseen = 0.06 }: Sketch, messages: number): number {
  return Math.round(unseen * messages);
}

function scenarioOf(of: Sketch, number: number, end: number): Scenario {
  const parts = partsOf(of);
  const bytes = of.used - (of.notMail ?? 0);
  // A message of junk or of a program is small; what people write carries the files.
  const weights = { inbox: parts.inbox, sent: parts.sent * 2, junk: parts.junk * 0.1, trash: parts.trash * 0.8 };
  const sum = weights.inbox + weights.sent + weights.junk + weights.trash;
  const room = bytes - LEAST * of.messages;
  const share = (part: keyof Parts) => LEAST * parts[part] + Math.floor((room * weights[part]) / sum);
  const [sent, junk, trash] = [share('sent'), share('junk'), share('trash')];
  const kinds: [ScenarioFolder, keyof Parts, number][] = [
    [{ name: 'INBOX' }, 'inbox', bytes - sent - junk - trash],
    [{ name: 'Sent', use: '\\Sent' }, 'sent', sent],
    [{ name: 'Junk', use: '\\Junk' }, 'junk', junk],
    [{ name: 'Trash', use: '\\Trash' }, 'trash', trash],
  ];
  const folders = kinds.map(([folder, part, octets], index): ScenarioFolder => {
    const messages = parts[part];
    const unseen = part === 'sent' ? 0 : part === 'junk' ? messages : unseenOf(of, messages);
    const make = () => messagesOf(of, part, { messages, octets, unseen, seed: seedOf(number, index, 41), end });
    return { ...folder, outline: { messages, bytes: messages === 0 ? 0 : octets, unseen, make } };
  });
  const drafts: ScenarioFolder = { name: 'Drafts', use: '\\Drafts' };
  return { folders: [...folders, drafts], messages: [], limit: of.limit, notMail: of.notMail ?? 0 };
}

/** Octets below which no message is: its header takes most of them. */
const LEAST = 900;
/** From so many octets on a message carries a file. */
const WITH_FILE = 40_000;

/** Messages of a folder whose sizes come to exactly so many octets: few large, many small. */
function messagesOf(
  of: Sketch,
  part: keyof Parts,
  {
    messages,
    octets,
    unseen,
    seed,
    end,
  }: { messages: number; octets: number; unseen: number; seed: number; end: number },
): OutlinedMessage[] {
  if (messages === 0) return [];
  const random = new Random(seed);
  const sigma = part === 'junk' ? 0.5 : 2;
  const weights = Array.from({ length: messages }, () => random.spread(1, sigma));
  const sum = weights.reduce((total, weight) => total + weight, 0);
  const room = Math.max(0, octets - LEAST * messages);
  let left = octets;
  const years = 5;
  const to: Person = { name: of.user.split('@')[0] as string, address: of.user };
  const writers = part === 'junk' ? shops(40, 77, 'win') : people(120, 78);
  return weights.map((weight, index) => {
    const size = index === messages - 1 ? left : LEAST + Math.floor((room * weight) / sum);
    left -= size;
    const own = seedOf(seed, index);
    const received = Math.floor(end - (years * 365 * DAY * (messages - index)) / messages);
    const writer = writers[own % writers.length] as Person;
    const [from, rcpt] = part === 'sent' ? [to, writer] : [writer, to];
    const item = sizedItem(size, () => letterOf(own, size, received, from, rcpt, part === 'junk'));
    const saved = part === 'trash' ? end - ((own % 60) + 1) * (DAY / 2) : received;
    return { item, received, saved, seen: index < messages - unseen };
  });
}

/** A letter of exactly so many octets. */
function letterOf(seed: number, size: number, date: number, from: Person, to: Person, isOffer: boolean): Entity {
  const random = new Random(seed);
  const pool = isOffer ? OFFER_LINES : LETTER_LINES;
  const subject = random.pick(isOffer ? SUBJECTS.offers : SUBJECTS.letters);
  const letter: Letter = {
    ...{ seed, date, from, to: [to], subject },
    messageId: `<${seed.toString(36)}.${date.toString(36)}@${from.address.split('@')[1]}>`,
    text: [],
    ...(size < WITH_FILE ? {} : { files: [fileFor(seed, size)] }),
  };
  const bare = entitySize(compose(letter));
  return compose({ ...letter, text: filling(pool, seed, size - bare) });
}

function fileFor(seed: number, size: number) {
  const octets = Math.floor(((size - WITH_FILE / 2) * 57) / 78);
  const isPicture = seed % 3 !== 0;
  const name = isPicture ? `IMG_${1000 + (seed % 9000)}.jpg` : `papers ${1 + (seed % 400)}.pdf`;
  return { name, type: isPicture ? 'image/jpeg' : 'application/pdf', seed, octets };
}

/** Lines of text that come to exactly so many octets, their ends included. */
function filling(pool: readonly string[], seed: number, octets: number): Letter['text'] {
  const lines: { line: string; depth: number }[] = [];
  let left = octets;
  for (let index = 0; left > 0; index++) {
    const line = pool[seedOf(seed, index) % pool.length] as string;
    // The last takes what is left, and never a single octet, which is no line.
    const length = left - line.length - 2 < 4 ? left - 2 : line.length;
    const text = length <= line.length ? line.slice(0, length) : line.padEnd(length, '.');
    lines.push({ line: text, depth: 0 });
    left -= text.length + 2;
  }
  return lines;
}
