import { TZDate } from '@date-fns/tz';
import { startOfYear } from 'date-fns';
import { CATEGORIES, type Category, SIGNS, type Sign } from '../core/categories/categories';
import { evidenceOf } from '../core/evidence/evidence';
import { type Grouping, type GroupingKind, groupCriteria, groupRows, recipientsIn } from '../core/senders/grouping';
import { lettersFrom } from '../core/senders/people';
import {
  bytesAMonth,
  chiefCategory,
  figuresOf,
  type GroupFigures,
  type GroupKnowledge,
  knowledgeOf,
  rankGroups,
} from '../core/senders/ranking';
import { fold } from '../core/text';
import type { MailboxView } from './mailbox-view';
import type { Ranked, RankRequest, SenderRow } from './protocol';

/** What a group opens into. */
const PARTS: Record<GroupingKind, GroupingKind | undefined> = {
  domain: 'address',
  address: 'list',
  list: 'address',
  recipient: undefined,
};

/** A ranking with what it is of, kept while a list is scrolled. */
interface Ranking {
  grouping: Grouping;
  knowledge: GroupKnowledge;
  figures: GroupFigures;
  mask: Uint8Array;
  order: Uint32Array;
}

/** Groups of a mailbox, ranked under criteria; exact, whatever their number. */
export class Senders {
  private readonly knowledge = new Map<GroupingKind, GroupKnowledge>();
  private readonly rankings = new Map<string, Ranking>();
  private letters: ReadonlyMap<string, number> | undefined;

  constructor(
    private readonly mailbox: MailboxView,
    private readonly sent: readonly string[],
    private readonly now: Date,
  ) {}

  /** The rows of a ranking that are in view, its opened groups followed by their parts. */
  rank(request: RankRequest): Ranked {
    const { mask, waiting } = this.maskOf(request.where);
    const top = this.rankingOf(request, mask, waiting.length > 0);
    const opened = new Set(request.opened);
    const lines: { ranking: Ranking; group: number; depth: number; parent: string }[] = [];
    const put = (ranking: Ranking, depth: number, parent: string) => {
      for (const group of ranking.order) {
        lines.push({ ranking, group, depth, parent });
        const name = nameOf(ranking.grouping, group, parent);
        if (opened.has(name)) {
          const parts = this.partsOf(ranking, group, request);
          if (parts) put(parts, depth + 1, name);
        }
      }
    };
    // Nothing opened: the order is the list, without a line a group.
    if (opened.size > 0) put(top, 0, '');
    const count = opened.size > 0 ? lines.length : top.order.length;
    const first = Math.max(0, Math.min(request.first, count));
    const shown =
      opened.size > 0
        ? lines.slice(first, first + request.count)
        : Array.from(top.order.subarray(first, first + request.count), (group) => ({
            ranking: top,
            group,
            depth: 0,
            parent: '',
          }));
    const years = this.years();
    const total = { messages: 0, bytes: 0 };
    for (let row = 0; row < mask.length; row++) {
      if (mask[row] === 0) continue;
      total.messages++;
      total.bytes += this.mailbox.columns.size[row] as number;
    }
    const largest = top.order.reduce((most, group) => Math.max(most, measureOf(top.figures, group, request.order)), 0);
    const firstFive = Array.from(top.order.subarray(0, 5)).reduce(
      (sum, group) => sum + (top.figures.bytes[group] as number),
      0,
    );
    return {
      groups: top.order.length,
      count,
      first,
      rows: this.rowsOf(shown, years),
      years: years.map(({ year }) => year),
      total,
      firstFive,
      largest,
      waiting,
    };
  }

  /** All groups of a ranking, and what each is called by its first message. */
  groups(request: RankRequest): { id: string; by: GroupingKind; key: string; label: string }[] {
    const { mask, waiting } = this.maskOf(request.where);
    const { grouping, order } = this.rankingOf(request, mask, waiting.length > 0);
    const labels = new Map<number, string>();
    for (let row = 0; row < mask.length; row++)
      for (let at = grouping.starts[row] as number; at < (grouping.starts[row + 1] as number); at++) {
        const group = grouping.members[at] as number;
        if (!labels.has(group)) labels.set(group, this.nameIn(row, grouping, group));
      }
    return Array.from(order, (group) => {
      const key = grouping.keys[group] as string;
      const label = request.by === 'domain' ? key : labels.get(group) || key;
      return { id: nameOf(grouping, group, ''), by: grouping.by, key, label };
    });
  }

  private maskOf(where: string): { mask: Uint8Array; waiting: string[] } {
    const { mask, waiting } = this.mailbox.matching.maskOf(where, this.now);
    const { scope } = this.mailbox;
    for (let row = 0; row < mask.length; row++) if (scope[row] === 0) mask[row] = 0;
    return { mask, waiting };
  }

  private knowledgeOf(by: GroupingKind): GroupKnowledge {
    let known = this.knowledge.get(by);
    if (!known) {
      const { columns, scope } = this.mailbox;
      if (by === 'recipient') this.letters ??= lettersFrom(columns, scope);
      known = knowledgeOf(columns, groupRows(columns, by), scope, this.now.getTime() / 1000, this.letters);
      this.knowledge.set(by, known);
    }
    return known;
  }

  private rankingOf(
    { by, where, order, descending }: Pick<RankRequest, 'by' | 'where' | 'order' | 'descending'>,
    mask: Uint8Array,
    fleeting: boolean,
  ): Ranking {
    const name = `${by} ${order} ${descending} ${where}`;
    const known = this.rankings.get(name);
    if (known) return known;
    const ranking = this.ranked(by, mask, order, descending);
    if (!fleeting) {
      // One at a time is in view.
      this.rankings.clear();
      this.rankings.set(name, ranking);
    }
    return ranking;
  }

  private ranked(by: GroupingKind, mask: Uint8Array, order: RankRequest['order'], descending: boolean): Ranking {
    const knowledge = this.knowledgeOf(by);
    const { grouping } = knowledge;
    const figures = figuresOf(this.mailbox.columns, grouping, mask);
    return { grouping, knowledge, figures, mask, order: rankGroups(figures, knowledge, order, descending) };
  }

  private partsOf({ grouping, mask }: Ranking, group: number, request: RankRequest): Ranking | undefined {
    const by = PARTS[grouping.by];
    if (!by) return undefined;
    const inside = new Uint8Array(mask.length);
    const { starts, members } = grouping;
    for (let row = 0; row < inside.length; row++) {
      if (mask[row] === 0) continue;
      for (let at = starts[row] as number; at < (starts[row + 1] as number); at++)
        if (members[at] === group) inside[row] = 1;
    }
    return this.ranked(by, inside, request.order, request.descending);
  }

  private years(): { year: number; from: number }[] {
    const { columns, timeZone } = this.mailbox;
    const until = new TZDate(this.now.getTime(), timeZone).getFullYear();
    let first = Infinity;
    for (let row = 0; row < columns.length; row++) first = Math.min(first, columns.date[row] as number);
    const since = Math.max(
      until - MAX_YEARS + 1,
      Number.isFinite(first) ? new TZDate(first * 1000, timeZone).getFullYear() : until,
    );
    return Array.from({ length: Math.max(1, until - since + 1) }, (_, index) => ({
      year: since + index,
      from: startOfYear(new TZDate(since + index, 0, 1, timeZone)).getTime() / 1000,
    }));
  }

  /** Lines with what only shown ones need: names, years, whether they open. */
  private rowsOf(
    lines: readonly { ranking: Ranking; group: number; depth: number; parent: string }[],
    years: readonly { from: number }[],
  ): SenderRow[] {
    const { columns } = this.mailbox;
    const details = lines.map(() => ({
      years: new Array<number>(years.length).fill(0),
      names: new Map<string, number>(),
      signs: 0,
    }));
    for (const [grouping, places] of byGrouping(lines)) {
      const { mask } = (lines[places[0] as number] as (typeof lines)[number]).ranking;
      const placeOf = new Map(places.map((place) => [(lines[place] as (typeof lines)[number]).group, place]));
      const { starts, members } = grouping.grouping;
      for (let row = 0; row < columns.length; row++) {
        if (mask[row] === 0) continue;
        for (let at = starts[row] as number; at < (starts[row + 1] as number); at++) {
          const place = placeOf.get(members[at] as number);
          if (place === undefined) continue;
          const detail = details[place] as (typeof details)[number];
          const year = yearIn(years, columns.date[row] as number);
          detail.years[year] = (detail.years[year] as number) + (columns.size[row] as number);
          detail.signs |= columns.signs[row] as number;
          const name = this.nameIn(row, grouping.grouping, members[at] as number);
          if (name !== '') detail.names.set(name, (detail.names.get(name) ?? 0) + 1);
        }
      }
    }
    return lines.map(({ ranking, group, depth, parent }, place) => {
      const { grouping, figures, knowledge } = ranking;
      const detail = details[place] as (typeof details)[number];
      const key = grouping.keys[group] as string;
      const { figure, reasons } = evidenceOf(knowledge.facts(group));
      const amount = {
        bytes: figures.bytes[group] as number,
        first: figures.first[group] as number,
        last: figures.last[group] as number,
      };
      const messages = figures.messages[group] as number;
      return {
        ...amount,
        id: nameOf(grouping, group, parent),
        depth,
        opens: PARTS[grouping.by] !== undefined && depth < MAX_DEPTH,
        by: grouping.by,
        key,
        where: groupCriteria(grouping.by, key, this.sent),
        names: [...detail.names].sort((a, b) => b[1] - a[1]).map(([name]) => name),
        messages,
        month: bytesAMonth(amount),
        years: detail.years,
        unseen: figures.unseen[group] as number,
        answered: figures.answered[group] as number,
        flagged: figures.flagged[group] as number,
        largest: figures.largest[group] as number,
        withFiles: figures.withFiles[group] as number,
        attached: figures.attached[group] as number,
        category: CATEGORIES[chiefCategory(figures, group)] as Category,
        categories: CATEGORIES.flatMap((category, number) => {
          const count = figures.categories[group * CATEGORIES.length + number] as number;
          return count > 0 ? [{ category, messages: count }] : [];
        }),
        signs: (Object.keys(SIGNS) as Sign[]).filter((sign) => (detail.signs & SIGNS[sign]) !== 0),
        unsubscribable: figures.unsubscribable[group] as number,
        written: knowledge.written[group] as number,
        evidence: figure,
        reasons,
      };
    });
  }

  /** The name under which a message shows a group. */
  private nameIn(row: number, { by, keys }: Grouping, group: number): string {
    const { columns } = this.mailbox;
    if (by !== 'recipient') return columns.dictionaries.author.name[columns.author[row] as number] as string;
    const to = recipientsIn(columns.dictionaries.recipients[columns.recipients[row] as number] as string);
    return to.find(({ address }) => fold(address) === keys[group])?.name ?? '';
  }
}

/** Years of the small charts. */
const MAX_YEARS = 12;
/** How deep groups open: a domain into addresses, an address into lists. */
const MAX_DEPTH = 2;

/** What names a line: its group, and that which it is a part of. */
function nameOf({ by, keys }: Grouping, group: number, parent: string): string {
  return `${parent}${parent === '' ? '' : '\n'}${by} ${keys[group]}`;
}

function measureOf(figures: GroupFigures, group: number, order: RankRequest['order']): number {
  if (order === 'messages') return figures.messages[group] as number;
  return figures.bytes[group] as number;
}

function byGrouping(lines: readonly { ranking: Ranking }[]): Map<Ranking, number[]> {
  const places = new Map<Ranking, number[]>();
  for (const [place, { ranking }] of lines.entries()) places.set(ranking, [...(places.get(ranking) ?? []), place]);
  return places;
}

/** The year of an instant; what is older than the first shown counts there. */
function yearIn(years: readonly { from: number }[], instant: number): number {
  let year = years.length - 1;
  while (year > 0 && (years[year] as { from: number }).from > instant) year--;
  return year;
}
