import { domainOf, hostOf } from '../mailbox/email-address';
import { fold } from '../text';

/**
 * A mailbox as columns: one entry a message in a folder (a placement), in the rising order of their ids. Views that
 * repeat mail are left out; the trash is in.
 *
 * Codes point into the dictionaries. Octets and seconds are kept as doubles: sums of them stay exact below 2^53.
 */
export interface Columns {
  readonly length: number;
  /** Placement ids, rising. */
  readonly id: Uint32Array;
  /** RFC822.SIZE, octets. */
  readonly size: Float64Array;
  /** INTERNALDATE, seconds since 1970 in UTC. */
  readonly received: Float64Array;
  /** The Date field, or INTERNALDATE where it can't be read; seconds. */
  readonly date: Float64Array;
  /** Bits of core/mailbox/flags. */
  readonly flags: Uint8Array;
  /** Numbers of core/categories. */
  readonly category: Uint8Array;
  /** Bits of core/mailbox/file-kinds: the kinds of its files. */
  readonly kinds: Uint16Array;
  /** Number of files, and their encoded octets. */
  readonly files: Uint32Array;
  readonly attached: Float64Array;
  /** The first message of its thread, as a number that only tells threads apart. */
  readonly thread: Uint32Array;
  /** Bits of SIGNS in core/categories, and SOLE_DOCUMENT. */
  readonly signs: Uint32Array;
  /** Codes of `dictionaries.author`, and so on. */
  readonly author: Uint32Array;
  readonly folder: Uint32Array;
  readonly list: Uint32Array;
  readonly recipients: Uint32Array;
  readonly keywords: Uint32Array;
  readonly dictionaries: Dictionaries;
}

export interface Dictionaries {
  /** Distinct authors: display name and address as written, host and registrable domain folded; parallel lists. */
  readonly author: {
    readonly name: readonly string[];
    readonly address: readonly string[];
    readonly host: readonly string[];
    readonly domain: readonly string[];
  };
  /** Paths. */
  readonly folder: readonly string[];
  /** Identifiers of List-Id; '' is none. */
  readonly list: readonly string[];
  /** To and Cc of what lies in Sent, as JSON: [{name, address, domain}]; '' elsewhere. */
  readonly recipients: readonly string[];
  /** Distinct sets of keywords, each parted by blanks. */
  readonly keywords: readonly string[];
}

/** Set in `signs` where a document that the user sent came from nowhere else. */
export const SOLE_DOCUMENT = 1 << 30;

/** The columns that are filled from numbers, and how each is kept. */
const NUMBERS = {
  id: Uint32Array,
  size: Float64Array,
  received: Float64Array,
  date: Float64Array,
  flags: Uint8Array,
  category: Uint8Array,
  kinds: Uint16Array,
  files: Uint32Array,
  attached: Float64Array,
  thread: Uint32Array,
  signs: Uint32Array,
} as const;

export type NumberColumn = keyof typeof NUMBERS;
export const NUMBER_COLUMNS = Object.keys(NUMBERS) as NumberColumn[];

/** The columns that hold codes of a dictionary of plain texts. */
export const TEXT_COLUMNS = ['folder', 'list', 'recipients', 'keywords'] as const;
export type TextColumn = (typeof TEXT_COLUMNS)[number];

/** What columns are built from: numbers as they come, and a text a row for each coded column. */
export interface RawColumns {
  numbers: Record<NumberColumn, ArrayLike<number>>;
  authorName: readonly string[];
  authorAddress: readonly string[];
  texts: Record<TextColumn, readonly string[]>;
}

/** Builds columns; texts are replaced by codes in the order in which they first occur. */
export function buildColumns(raw: RawColumns): Columns {
  const { numbers } = raw;
  const length = numbers.id.length;
  const typed = Object.fromEntries(
    NUMBER_COLUMNS.map((name) => [name, NUMBERS[name].from(numbers[name])]),
  ) as unknown as Pick<Columns, NumberColumn>;
  const coded = Object.fromEntries(TEXT_COLUMNS.map((name) => [name, encode(raw.texts[name])])) as Record<
    TextColumn,
    Coded
  >;
  const authors = encode(raw.authorAddress.map((address, row) => `${address}\n${raw.authorName[row]}`));
  const firsts = firstRows(authors);
  const pick = (texts: readonly string[]) => Array.from(firsts, (row) => texts[row] as string);
  const address = pick(raw.authorAddress);
  return {
    length,
    ...typed,
    author: authors.codes,
    folder: coded.folder.codes,
    list: coded.list.codes,
    recipients: coded.recipients.codes,
    keywords: coded.keywords.codes,
    dictionaries: {
      author: {
        name: pick(raw.authorName),
        address,
        host: address.map((one) => fold(hostOf(one))),
        domain: address.map((one) => fold(domainOf(one))),
      },
      folder: coded.folder.values,
      list: coded.list.values,
      recipients: coded.recipients.values,
      keywords: coded.keywords.values,
    },
  };
}

/** Texts as codes into a list of the distinct ones. */
export interface Coded {
  codes: Uint32Array;
  values: string[];
}

/** Codes texts in the order in which they first occur. */
export function encode(texts: readonly string[]): Coded {
  const known = new Map<string, number>();
  const codes = new Uint32Array(texts.length);
  for (let row = 0; row < texts.length; row++) {
    const text = texts[row] as string;
    let code = known.get(text);
    if (code === undefined) {
      code = known.size;
      known.set(text, code);
    }
    codes[row] = code;
  }
  return { codes, values: [...known.keys()] };
}

/** For each code the first row that bears it. */
function firstRows({ codes, values }: Coded): Uint32Array {
  const firsts = new Uint32Array(values.length);
  for (let row = codes.length - 1; row >= 0; row--) firsts[codes[row] as number] = row;
  return firsts;
}

/** The row of an id; -1 where it is not there. */
export function rowOfId(columns: Columns, id: number): number {
  let [from, to] = [0, columns.length];
  while (from < to) {
    const middle = (from + to) >>> 1;
    if ((columns.id[middle] as number) < id) from = middle + 1;
    else to = middle;
  }
  return columns.id[from] === id ? from : -1;
}
