import { type Category, categoryNumber } from '../categories/categories';
import { type FileKind, kindBit, kindNumber } from '../files/kinds';
import { FLAG_BITS } from '../mailbox/flags';
import { printMultirange, type Ranges } from '../sets/ranges';
import { fold } from '../text';
import { OCTETS_IN } from '../units';
import { instantOfAge, instantsOfDay } from './instants';
import { type Criteria, type Field, type FlagTest, isPlace, type Operator, type Place, type Value } from './tree';

/** What an expression is read against: ages against one instant, folders against those that are there. */
export interface SqlContext {
  now: Date;
  /** IANA name. */
  timeZone: string;
  folders: readonly { id: number; path: string }[];
  /** Placements in which the server found a text, by the text folded. */
  texts: ReadonlyMap<string, Ranges>;
  /** Placements that a guard keeps. */
  guarded: Ranges;
  /** The account, where the words of all its messages are indexed; else null. */
  words: number | null;
  /** Among what messages have their places: the trash is counted by itself. Undefined where no place can be asked for. */
  places?: PlacesContext | undefined;
  /** Whether the condition is of files, alias f: their size, kind and name are meant then. */
  ofFiles?: boolean | undefined;
}

export interface PlacesContext {
  account: number;
  /** Ids of the folders that count, and of those among them that are the trash. */
  folders: readonly number[];
  trash: readonly number[];
}

/** A condition over the aliases p (placement), m (message) and, of files, f; its values as parameters. */
export interface SqlCondition {
  text: string;
  values: unknown[];
  /** Whether it reads m; where not, the join can be left out. */
  readsMessage: boolean;
}

/**
 * Compiles criteria to a condition that is never null, so that `not` is the complement.
 *
 * @param firstParameter the number of the first parameter to use, `$n`.
 */
export function criteriaToSql(criteria: Criteria, context: SqlContext, firstParameter: number): SqlCondition {
  const compiler = new Compiler(context, firstParameter);
  const text = compiler.compile(criteria);
  return { text, values: compiler.values, readsMessage: compiler.readsMessage };
}

const FLAG_CONDITIONS: Record<Exclude<FlagTest, 'guarded'>, string> = {
  seen: `p.flags & ${FLAG_BITS.seen} <> 0`,
  unseen: `p.flags & ${FLAG_BITS.seen} = 0`,
  flagged: `p.flags & ${FLAG_BITS.flagged} <> 0`,
  unflagged: `p.flags & ${FLAG_BITS.flagged} = 0`,
  answered: `p.flags & ${FLAG_BITS.answered} <> 0`,
  unanswered: `p.flags & ${FLAG_BITS.answered} = 0`,
  draft: `p.flags & ${FLAG_BITS.draft} <> 0`,
};

/** An age above n means received before the instant, so the order turns round. */
const TURNED: Partial<Record<Operator, Operator>> = { '<': '>', '<=': '>=', '>': '<', '>=': '<=' };

/** Letters that a pattern must have for an index of trigrams to find it. */
const TRIGRAM = 3;

/** The folded texts of a field, each of which may be the one that is meant. */
const TEXT_COLUMNS: Partial<Record<Field, string[]>> = {
  from: ['m.from_address_folded', 'm.from_name_folded'],
  subject: ['m.subject_folded'],
  list: ['m.list_folded'],
};

class Compiler {
  readonly values: unknown[] = [];
  readsMessage = false;

  constructor(
    private readonly context: SqlContext,
    private readonly firstParameter: number,
  ) {}

  compile(criteria: Criteria): string {
    switch (criteria.kind) {
      case 'everything':
        return 'true';
      case 'any':
        return `(${criteria.of.map((part) => this.compile(part)).join(' or ')})`;
      case 'all':
        return `(${criteria.of.map((part) => this.compile(part)).join(' and ')})`;
      case 'not':
        return `(not ${this.compile(criteria.of)})`;
      case 'flag':
        if (criteria.name === 'guarded') return this.within(this.context.guarded);
        return `(${FLAG_CONDITIONS[criteria.name]})`;
      case 'test':
        return this.test(criteria.field, criteria.op, criteria.value);
    }
  }

  private test(field: Field, op: Operator, value: Value): string {
    switch (value.type) {
      case 'octets': {
        const octets = value.number * (value.unit === null ? 1 : OCTETS_IN[value.unit]);
        return `(${this.numeric(field)} ${sqlOrder(op)} ${this.parameter(octets, 'numeric')})`;
      }
      case 'count':
        if (isPlace(field)) return this.place(field, op, value.number);
        return `(${this.numeric(field)} ${sqlOrder(op)} ${this.parameter(value.number, 'numeric')})`;
      case 'age': {
        const instant = instantOfAge(value.number, value.unit, this.context.now, this.context.timeZone);
        return `(p.received ${sqlOrder(TURNED[op] ?? op)} ${this.parameter(instant, 'timestamptz')})`;
      }
      case 'day':
        return this.day(field, op, value.day);
      case 'text':
        return this.text(field, op, value.text);
    }
  }

  private numeric(field: Field): string {
    if (field === 'size') return this.context.ofFiles ? 'f.own_size' : 'p.size';
    this.readsMessage = true;
    return field === 'files' ? 'm.file_count' : 'm.file_bytes';
  }

  private place(field: Place, op: Operator, wanted: number): string {
    const { places, timeZone } = this.context;
    if (!places) throw new TypeError(`${field} can’t be asked for here.`);
    const author = 'pm.from_address_folded';
    const groups = [
      `pp.folder = any(${this.parameter(places.trash, 'int[]')})`,
      author,
      ...(field === 'monthly'
        ? [`date_trunc('month', pp.received at time zone ${this.parameter(timeZone, 'text')})`]
        : []),
    ];
    return `(p.id in (
      select id from (
        select pp.id, case when ${author} = '' then 1 else row_number() over (
          partition by ${groups.join(', ')} order by pp.received desc, pp.id desc) end as place
        from placement pp join message pm on pm.account = pp.account and pm.id = pp.message
        where pp.account = ${this.parameter(places.account, 'bigint')} and pp.gone_at is null
          and pp.folder = any(${this.parameter(places.folders, 'int[]')})) placed
      where place ${sqlOrder(op)} ${this.parameter(wanted, 'numeric')}))`;
  }

  private day(field: Field, op: Operator, day: string): string {
    if (field === 'date') this.readsMessage = true;
    const column = field === 'date' ? 'coalesce(m.sent, p.received)' : 'p.received';
    const { start, end } = instantsOfDay(day, this.context.timeZone);
    const from = () => this.parameter(start, 'timestamptz');
    const to = () => this.parameter(end, 'timestamptz');
    switch (op) {
      case '<':
        return `(${column} < ${from()})`;
      case '>=':
        return `(${column} >= ${from()})`;
      case '<=':
        return `(${column} < ${to()})`;
      case '>':
        return `(${column} >= ${to()})`;
      case '!=':
        return `(${column} < ${from()} or ${column} >= ${to()})`;
      default:
        return `(${column} >= ${from()} and ${column} < ${to()})`;
    }
  }

  private text(field: Field, op: Operator, text: string): string {
    const wanted = fold(text);
    const negated = op === '!=' || op === '!~';
    const contains = op === '~' || op === '!~';
    const condition = this.positiveText(field, wanted, contains);
    return negated ? `(not ${condition})` : condition;
  }

  private positiveText(field: Field, wanted: string, contains: boolean): string {
    if (field === 'folder' || field === 'under') {
      const ids = this.context.folders
        .filter(({ path }) => {
          const folded = fold(path);
          if (field === 'under') return folded === wanted || folded.startsWith(`${wanted}/`);
          return contains ? folded.includes(wanted) : folded === wanted;
        })
        .map(({ id }) => id);
      return `(p.folder = any(${this.parameter(ids, 'int[]')}))`;
    }
    if (field === 'category') return `(p.category = ${this.parameter(categoryNumber(wanted as Category), 'int')})`;
    if (field === 'keyword' && isStorable(wanted)) return this.keyword(wanted, contains);
    if (field === 'text') return this.within(this.context.texts.get(wanted) ?? []);
    if (!isStorable(wanted)) return 'false';
    if (this.context.ofFiles && field === 'kind')
      return `(f.kind = ${this.parameter(kindNumber(wanted as FileKind), 'int')})`;
    this.readsMessage = true;
    if (field === 'kind') return `(m.kinds & ${this.parameter(kindBit(wanted as FileKind), 'int')} <> 0)`;
    const parameter = this.parameter(contains ? likePattern(wanted) : wanted, 'text');
    const compare = (column: string) => (contains ? `${column} like ${parameter}` : `${column} = ${parameter}`);
    // A registrable domain means all below it; a subdomain in full means itself alone.
    if (field === 'domain') return `(${compare('m.from_domain')} or ${compare('m.from_host')})`;
    if (this.context.ofFiles && field === 'file') return `(${compare('f.name_folded')})`;
    // Several texts in one column are parted by line feeds, which no header text holds.
    if (field === 'to' || field === 'file') {
      const column = field === 'to' ? 'm.to_folded' : 'm.files_folded';
      if (contains) return this.indexed(compare(column), wanted, parameter);
      return `(${parameter} = any(string_to_array(${column}, E'\\n')))`;
    }
    const condition = `(${(TEXT_COLUMNS[field] ?? []).map(compare).join(' or ')})`;
    return contains && field === 'subject' ? this.indexed(condition, wanted, parameter) : condition;
  }

  /** Adds to a condition, which is the truth, that its messages are among those that an index of trigrams finds. */
  private indexed(condition: string, wanted: string, pattern: string): string {
    const { words } = this.context;
    if (words === null || [...wanted].length < TRIGRAM) return `(${condition})`;
    const account = this.parameter(words, 'bigint');
    return `(${condition} and m.id in (select w.message from words w where w.account = ${account} and w.folded like ${pattern}))`;
  }

  /** Keywords are ASCII by the grammar of flags (RFC 9051 §9), so lower case is their folding. */
  private keyword(wanted: string, contains: boolean): string {
    const words = `lower(array_to_string(p.keywords, E'\\n'))`;
    if (!contains) return `(${this.parameter(wanted, 'text')} = any(string_to_array(${words}, E'\\n')))`;
    return `(${words} like ${this.parameter(likePattern(wanted), 'text')})`;
  }

  private within(ids: Ranges): string {
    return `(p.id <@ ${this.parameter(printMultirange(ids), 'int8multirange')})`;
  }

  private parameter(value: unknown, type: string): string {
    this.values.push(value);
    return `$${this.firstParameter + this.values.length - 1}::${type}`;
  }
}

function sqlOrder(op: Operator): string {
  return op === '!=' ? '<>' : op;
}

/** Whether a text can stand in a header text as it is stored: no line feed, which parts several, no NUL, no half letter. */
export function isStorable(text: string): boolean {
  return !/[\n\0]/.test(text) && text.isWellFormed();
}

/** A pattern of LIKE that means: contains exactly this. */
function likePattern(text: string): string {
  return `%${text.replace(/[\\%_]/g, '\\$&')}%`;
}
