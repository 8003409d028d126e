import { CATEGORIES, categoryNumber, SIGNS } from '../categories/categories';
import { type Columns, SOLE_DOCUMENT } from '../columns/columns';
import { orderBy } from '../columns/order';
import { type EvidenceFacts, evidenceShare } from '../evidence/evidence';
import { FLAG_BITS } from '../mailbox/flags';
import { type Grouping, postingAddress, writtenTo } from './grouping';

/** Figures of groups, each by the number of the group; times are seconds, sizes octets. */
export interface GroupFigures {
  readonly messages: Uint32Array;
  readonly bytes: Float64Array;
  readonly first: Float64Array;
  readonly last: Float64Array;
  readonly unseen: Uint32Array;
  readonly answered: Uint32Array;
  readonly flagged: Uint32Array;
  readonly largest: Float64Array;
  /** Messages with files, and the encoded octets of these. */
  readonly withFiles: Uint32Array;
  readonly attached: Float64Array;
  /** Group times CATEGORIES.length plus category. */
  readonly categories: Uint32Array;
  /** Messages that can be unsubscribed from, and those with a document that came from nowhere else. */
  readonly unsubscribable: Uint32Array;
  readonly soleDocuments: Uint32Array;
}

const CATEGORY_COUNT = CATEGORIES.length;

/**
 * Adds rows up into their groups: one pass, exact whatever the number of groups.
 *
 * @param mask one octet a row, 0 where it is left out.
 */
export function figuresOf(columns: Columns, { keys, starts, members }: Grouping, mask: Uint8Array): GroupFigures {
  const groups = keys.length;
  const messages = new Uint32Array(groups);
  const bytes = new Float64Array(groups);
  const first = new Float64Array(groups).fill(Infinity);
  const last = new Float64Array(groups).fill(-Infinity);
  const unseen = new Uint32Array(groups);
  const answered = new Uint32Array(groups);
  const flagged = new Uint32Array(groups);
  const largest = new Float64Array(groups);
  const withFiles = new Uint32Array(groups);
  const attached = new Float64Array(groups);
  const categories = new Uint32Array(groups * CATEGORY_COUNT);
  const unsubscribable = new Uint32Array(groups);
  const soleDocuments = new Uint32Array(groups);
  for (let row = 0; row < mask.length; row++) {
    if (mask[row] === 0) continue;
    const size = columns.size[row] as number;
    const date = columns.date[row] as number;
    const flags = columns.flags[row] as number;
    const signs = columns.signs[row] as number;
    const category = columns.category[row] as number;
    const octets = columns.attached[row] as number;
    const files = columns.files[row] as number;
    for (let at = starts[row] as number; at < (starts[row + 1] as number); at++) {
      const group = members[at] as number;
      messages[group] = (messages[group] as number) + 1;
      bytes[group] = (bytes[group] as number) + size;
      if (date < (first[group] as number)) first[group] = date;
      if (date > (last[group] as number)) last[group] = date;
      if ((flags & FLAG_BITS.seen) === 0) unseen[group] = (unseen[group] as number) + 1;
      if ((flags & FLAG_BITS.answered) !== 0) answered[group] = (answered[group] as number) + 1;
      if ((flags & FLAG_BITS.flagged) !== 0) flagged[group] = (flagged[group] as number) + 1;
      if (size > (largest[group] as number)) largest[group] = size;
      if (files > 0) withFiles[group] = (withFiles[group] as number) + 1;
      attached[group] = (attached[group] as number) + octets;
      const cell = group * CATEGORY_COUNT + category;
      categories[cell] = (categories[cell] as number) + 1;
      if ((signs & SIGNS.listUnsubscribe) !== 0) unsubscribable[group] = (unsubscribable[group] as number) + 1;
      if ((signs & SOLE_DOCUMENT) !== 0) soleDocuments[group] = (soleDocuments[group] as number) + 1;
    }
  }
  return {
    messages,
    bytes,
    first,
    last,
    unseen,
    answered,
    flagged,
    largest,
    withFiles,
    attached,
    categories,
    unsubscribable,
    soleDocuments,
  };
}

/** A mean month of the Gregorian calendar in seconds. */
const MONTH_SECONDS = (365.2425 / 12) * 86_400;

/** Octets a month between first and last message, a month at least. */
export function bytesAMonth({ bytes, first, last }: { bytes: number; first: number; last: number }): number {
  return bytes / Math.max(1, (last - first) / MONTH_SECONDS);
}

/** The category of most of a group's messages; the first of those with equally many. */
export function chiefCategory({ categories }: Pick<GroupFigures, 'categories'>, group: number): number {
  const counts = categories.subarray(group * CATEGORY_COUNT, (group + 1) * CATEGORY_COUNT);
  return counts.indexOf(Math.max(...counts));
}

const LETTERS = categoryNumber('letters');
const RECORDS = categoryNumber('records');

/** What is known of one group, for its evidence. */
function factsOf(
  figures: GroupFigures,
  group: number,
  { written, replied, own, now }: { written: number; replied: number; own: boolean; now: number },
): EvidenceFacts {
  const messages = Math.max(1, figures.messages[group] as number);
  const share = (category: number) => (figures.categories[group * CATEGORY_COUNT + category] as number) / messages;
  return {
    messages,
    written,
    replied,
    flagged: figures.flagged[group] as number,
    answered: figures.answered[group] as number,
    documents: figures.soleDocuments[group] as number,
    letters: share(LETTERS),
    records: share(RECORDS),
    // The user has seen what the user wrote, so that is no evidence.
    seen: own ? 0 : 1 - (figures.unseen[group] as number) / messages,
    days: (now - (figures.last[group] as number)) / 86_400,
  };
}

/** A grouping with all that is told of its groups over the whole mailbox, whatever narrows the ranking. */
export interface GroupKnowledge {
  readonly grouping: Grouping;
  readonly figures: GroupFigures;
  readonly facts: (group: number) => EvidenceFacts;
  /** How often the user wrote to each group. */
  readonly written: Uint32Array;
  /** Evidence by group, 0 to 1. */
  readonly evidence: Float64Array;
}

/**
 * Tells what is known of every group.
 *
 * @param scope one octet a row, 0 where it is left out.
 * @param fromThem letters to the user by address, for a grouping by recipient.
 * @param now seconds.
 */
export function knowledgeOf(
  columns: Columns,
  grouping: Grouping,
  scope: Uint8Array,
  now: number,
  fromThem?: ReadonlyMap<string, number>,
): GroupKnowledge {
  const figures = figuresOf(columns, grouping, scope);
  const counts = writtenTo(columns, grouping.by === 'list' ? 'address' : grouping.by);
  const written = Uint32Array.from(grouping.keys, (key) =>
    key === '' ? 0 : (counts.get(grouping.by === 'list' ? postingAddress(key) : key) ?? 0),
  );
  const facts = (group: number) =>
    factsOf(figures, group, {
      written: written[group] as number,
      replied: fromThem?.get(grouping.keys[group] as string) ?? 0,
      own: grouping.by === 'recipient',
      now,
    });
  const evidence = Float64Array.from(grouping.keys, (_, group) =>
    figures.messages[group] === 0 ? 0 : evidenceShare(facts(group)),
  );
  return { grouping, figures, facts, written, evidence };
}

export const GROUP_ORDERS = ['bytes', 'messages', 'month', 'last', 'evidence'] as const;
export type GroupOrder = (typeof GROUP_ORDERS)[number];

/** The groups that have any message, in an order; ties by key. */
export function rankGroups(
  figures: GroupFigures,
  { grouping, evidence }: GroupKnowledge,
  order: GroupOrder,
  descending: boolean,
): Uint32Array {
  const there: number[] = [];
  for (let group = 0; group < grouping.keys.length; group++)
    if ((figures.messages[group] as number) > 0) there.push(group);
  const { keys } = grouping;
  there.sort((a, b) => ((keys[a] as string) < (keys[b] as string) ? -1 : 1));
  const values = Float64Array.from(there, (group) => Math.round(orderValue(figures, evidence, order, group)));
  return orderBy(values, descending).map((place) => there[place] as number);
}

function orderValue(figures: GroupFigures, evidence: Float64Array, order: GroupOrder, group: number): number {
  switch (order) {
    case 'evidence':
      return 1e6 * (evidence[group] as number);
    case 'month':
      return bytesAMonth({
        bytes: figures.bytes[group] as number,
        first: figures.first[group] as number,
        last: figures.last[group] as number,
      });
    default:
      return figures[order][group] as number;
  }
}
