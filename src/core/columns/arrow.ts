import {
  Dictionary,
  Field,
  Float64,
  Int32,
  makeData,
  RecordBatch,
  Schema,
  Struct,
  Table,
  TimestampSecond,
  tableFromIPC,
  tableToIPC,
  Uint8,
  Uint16,
  Uint32,
  Utf8,
  type Vector,
  vectorFromArray,
} from 'apache-arrow';
import type { Columns, NumberColumn } from './columns';

/**
 * Columns as an Arrow IPC stream, one record batch. Codes are dictionary-encoded texts, so that any reader of Arrow sees
 * the texts; times are seconds of UTC, written without a zone, since some readers know zones only with more at hand. What went is in the metadata of the schema.
 */

/** Types on the wire of what is numbers in memory; times are written as timestamps. */
const TYPES = {
  id: () => new Uint32(),
  size: () => new Float64(),
  received: () => new TimestampSecond(),
  date: () => new TimestampSecond(),
  flags: () => new Uint8(),
  category: () => new Uint8(),
  kinds: () => new Uint16(),
  files: () => new Uint32(),
  attached: () => new Float64(),
  thread: () => new Uint32(),
  signs: () => new Uint32(),
} satisfies Record<NumberColumn, () => unknown>;

const NAMES = Object.keys(TYPES) as NumberColumn[];
const CODED = [
  'from_name',
  'from_address',
  'from_host',
  'from_domain',
  'folder',
  'list',
  'recipients',
  'keywords',
] as const;

/** What a stream tells besides the rows. */
export interface StreamNote {
  /** The state of the index that this is; what `since` takes. */
  version: string;
  /** Whether the rows are a difference to an earlier state. */
  difference: boolean;
  /** Ids that went since then. */
  gone: readonly number[];
  /** Paths of the folders that are the trash, and of those that hold what the user sent. */
  trash: readonly string[];
  sent: readonly string[];
}

export function toArrow(columns: Columns, note: StreamNote): Uint8Array {
  const { length, dictionaries } = columns;
  const fields: Field[] = [];
  const children = NAMES.map((name) => {
    const type = TYPES[name]();
    fields.push(new Field(name, type, false));
    const values = columns[name];
    const data = name === 'received' || name === 'date' ? secondsOf(values as Float64Array) : values;
    return makeData({ type, length, nullCount: 0, data } as never);
  });
  const texts: Record<(typeof CODED)[number], { codes: Uint32Array; values: readonly string[] }> = {
    from_name: { codes: columns.author, values: dictionaries.author.name },
    from_address: { codes: columns.author, values: dictionaries.author.address },
    from_host: { codes: columns.author, values: dictionaries.author.host },
    from_domain: { codes: columns.author, values: dictionaries.author.domain },
    folder: { codes: columns.folder, values: dictionaries.folder },
    list: { codes: columns.list, values: dictionaries.list },
    recipients: { codes: columns.recipients, values: dictionaries.recipients },
    keywords: { codes: columns.keywords, values: dictionaries.keywords },
  };
  for (const [index, name] of CODED.entries()) {
    // A copy each: the writer takes neighbours that share a buffer for one.
    const { codes, values } = texts[name];
    const dictionary = vectorFromArray(values.length === 0 ? [''] : values, new Utf8());
    const type = new Dictionary(new Utf8(), new Int32(), index);
    fields.push(new Field(name, type, false));
    children.push(
      makeData({
        type,
        length,
        nullCount: 0,
        data: Int32Array.from(codes),
        dictionary,
      } as never),
    );
  }
  const metadata = new Map([
    ['version', note.version],
    ['difference', note.difference ? 'yes' : 'no'],
    ['gone', JSON.stringify(note.gone)],
    ['trash', JSON.stringify(note.trash)],
    ['sent', JSON.stringify(note.sent)],
  ]);
  const schema = new Schema(fields, metadata);
  const struct = makeData({ type: new Struct(fields), length, nullCount: 0, children } as never);
  return tableToIPC(new Table(schema, [new RecordBatch(schema, struct as never)]), 'stream');
}

/** Reads a stream that `toArrow` wrote. Throws where it is none. */
export function fromArrow(octets: Uint8Array): { columns: Columns; note: StreamNote } {
  const table = tableFromIPC(octets);
  const column = (name: string): Vector => {
    const found = table.getChild(name);
    if (!found) throw new Error(`The columns have no ${name}.`);
    return found;
  };
  const numbers = Object.fromEntries(
    NAMES.map((name) => {
      // Buffers are padded to whole words, so they may be longer than the column.
      const values = column(name).data[0]?.values?.subarray(0, table.numRows);
      return [name, name === 'received' || name === 'date' ? doublesOf(values) : (values ?? new Uint32Array(0))];
    }),
  ) as unknown as Pick<Columns, NumberColumn>;
  const codes = (name: string) => {
    const values = column(name).data[0]?.values as Int32Array | undefined;
    return values ? new Uint32Array(values.buffer, values.byteOffset, table.numRows) : new Uint32Array(0);
  };
  const values = (name: string) =>
    (table.numRows === 0 ? [] : (column(name).data[0]?.dictionary?.toArray() ?? [])) as string[];
  const { metadata } = table.schema;
  return {
    columns: {
      length: table.numRows,
      ...numbers,
      author: codes('from_address'),
      folder: codes('folder'),
      list: codes('list'),
      recipients: codes('recipients'),
      keywords: codes('keywords'),
      dictionaries: {
        author: {
          name: values('from_name'),
          address: values('from_address'),
          host: values('from_host'),
          domain: values('from_domain'),
        },
        folder: values('folder'),
        list: values('list'),
        recipients: values('recipients'),
        keywords: values('keywords'),
      },
    },
    note: {
      version: metadata.get('version') ?? '',
      difference: metadata.get('difference') === 'yes',
      gone: JSON.parse(metadata.get('gone') ?? '[]') as number[],
      trash: JSON.parse(metadata.get('trash') ?? '[]') as string[],
      sent: JSON.parse(metadata.get('sent') ?? '[]') as string[],
    },
  };
}

const HALF = 2 ** 32;

/** Doubles as 64-bit integers, low word first, without a BigInt a row. */
function secondsOf(values: Float64Array): BigInt64Array {
  const words = new Int32Array(values.length * 2);
  for (let row = 0; row < values.length; row++) {
    const value = values[row] as number;
    words[row * 2] = value % HALF;
    words[row * 2 + 1] = Math.floor(value / HALF);
  }
  return new BigInt64Array(words.buffer);
}

function doublesOf(values: BigInt64Array | undefined): Float64Array {
  if (!values) return new Float64Array(0);
  const low = new Uint32Array(values.buffer, values.byteOffset, values.length * 2);
  const high = new Int32Array(values.buffer, values.byteOffset, values.length * 2);
  const doubles = new Float64Array(values.length);
  for (let row = 0; row < doubles.length; row++)
    doubles[row] = (high[row * 2 + 1] as number) * HALF + (low[row * 2] as number);
  return doubles;
}
