import {
  Field,
  Float64,
  makeData,
  RecordBatch,
  Schema,
  Struct,
  Table,
  tableFromIPC,
  tableToIPC,
  Uint8,
  Uint32,
  Utf8,
  vectorFromArray,
} from 'apache-arrow';
import { kindBitOf } from '../files/kinds';
import { type Columns, NUMBER_COLUMNS, rowOfId, TEXT_COLUMNS } from './columns';

/**
 * The files of a mailbox as columns, in the rising order of their ids. Each has one of its message's placements. Files of file spaces
 * stand among them: they have placement 0, and their numbers there below zero as ids.
 */
export interface FileColumns {
  readonly length: number;
  /** Ids of core/files, below 2^53. */
  readonly id: Float64Array;
  readonly placement: Uint32Array;
  /** Encoded octets; of an enclosed message without the files inside it. In a file space, octets. */
  readonly size: Float64Array;
  /** Numbers of core/files/kinds. */
  readonly kind: Uint8Array;
  /** Numbers of core/files/copies. */
  readonly copy: Uint8Array;
  readonly name: readonly string[];
  /** Of files of file spaces: when they were changed, in seconds since 1970, and the folder. 0 and '' of the others. */
  readonly changed: Float64Array;
  readonly folder: readonly string[];
}

/** Files of file spaces, in the falling order of their numbers there. */
export interface KeptFiles {
  readonly length: number;
  readonly id: Float64Array;
  readonly size: Float64Array;
  readonly kind: Uint8Array;
  readonly name: readonly string[];
  readonly changed: Float64Array;
  /** For a person, with the host before it. */
  readonly folder: readonly string[];
}

/** The files of a mailbox, and those of its file spaces before them. */
export function withKeptFiles(files: FileColumns, kept: KeptFiles): FileColumns {
  const length = kept.length + files.length;
  const joined = <T extends Float64Array | Uint8Array | Uint32Array>(into: T, first: ArrayLike<number>, then: T): T => {
    into.set(first);
    into.set(then, kept.length);
    return into;
  };
  const nothing = new Uint8Array(kept.length);
  return {
    length,
    id: joined(
      new Float64Array(length),
      kept.id.map((id) => -id),
      files.id,
    ),
    placement: joined(new Uint32Array(length), nothing, files.placement),
    size: joined(new Float64Array(length), kept.size, files.size),
    kind: joined(new Uint8Array(length), kept.kind, files.kind),
    copy: joined(new Uint8Array(length), nothing, files.copy),
    name: [...kept.name, ...files.name],
    changed: joined(new Float64Array(length), kept.changed, files.changed),
    folder: [...kept.folder, ...files.folder],
  };
}

/** File columns as an Arrow IPC stream of one record batch. */
export function filesToArrow(files: FileColumns): Uint8Array {
  const { length } = files;
  const numbers = [
    ['id', new Float64(), files.id],
    ['placement', new Uint32(), files.placement],
    ['size', new Float64(), files.size],
    ['kind', new Uint8(), files.kind],
    ['copy', new Uint8(), files.copy],
    ['changed', new Float64(), files.changed],
  ] as const;
  const texts = ['name', 'folder'] as const;
  const fields = [
    ...numbers.map(([name, type]) => new Field(name, type, false)),
    ...texts.map((name) => new Field(name, new Utf8(), false)),
  ];
  const children = [
    ...numbers.map(([, type, data]) => makeData({ type, length, nullCount: 0, data } as never)),
    ...texts.map((name) => {
      const [data] = vectorFromArray(files[name] as string[], new Utf8()).data;
      return data ?? makeData({ type: new Utf8(), length: 0, nullCount: 0 } as never);
    }),
  ];
  const schema = new Schema(fields);
  const data = makeData({ type: new Struct(fields), length, nullCount: 0, children } as never);
  return tableToIPC(new Table(schema, [new RecordBatch(schema, data as never)]), 'stream');
}

/** @throws where it is no such stream. */
export function filesFromArrow(octets: Uint8Array): FileColumns {
  const table = tableFromIPC(octets);
  const numbers = (name: string) => table.getChild(name)?.toArray();
  const length = table.numRows;
  const none = new ArrayBuffer(0);
  const texts = (name: string) => {
    const column = table.getChild(name);
    return Array.from({ length }, (_, row) => (column?.get(row) as string | null) ?? '');
  };
  return {
    length,
    id: numbers('id') ?? new Float64Array(none),
    placement: numbers('placement') ?? new Uint32Array(none),
    size: numbers('size') ?? new Float64Array(none),
    kind: numbers('kind') ?? new Uint8Array(none),
    copy: numbers('copy') ?? new Uint8Array(none),
    name: texts('name'),
    changed: numbers('changed') ?? new Float64Array(none),
    folder: texts('folder'),
  };
}

/**
 * Files as rows like those of messages: what narrows, orders and counts these does so with files. The id of a row is its place,
 * its size and kind are the file's, all else is its message's. Of a file of a file space the date is that of its last change, and
 * nobody is its author.
 *
 * @returns the columns, and by row the place of its file among the file columns. Files without a message are left out.
 */
export function columnsOfFiles(files: FileColumns, messages: Columns): { columns: Columns; place: Uint32Array } {
  const rows = new Int32Array(files.length);
  let length = 0;
  for (let at = 0; at < files.length; at++) {
    const placement = files.placement[at] as number;
    rows[at] = placement === 0 ? IN_SPACE : rowOfId(messages, placement);
    if (rows[at] !== GONE) length++;
  }
  const place = new Uint32Array(length);
  const message = new Int32Array(length);
  for (let at = 0, row = 0; at < files.length; at++) {
    if (rows[at] === GONE) continue;
    place[row] = at;
    message[row++] = rows[at] as number;
  }
  // Those of file spaces come first.
  let kept = 0;
  while (kept < length && message[kept] === IN_SPACE) kept++;
  const gathered = Object.fromEntries(
    [...NUMBER_COLUMNS, ...TEXT_COLUMNS, 'author' as const].map((name) => {
      const from = messages[name];
      const into = new (from.constructor as new (length: number) => typeof from)(length);
      for (let row = kept; row < length; row++) into[row] = from[message[row] as number] as number;
      return [name, into];
    }),
  ) as unknown as Omit<Columns, 'length' | 'dictionaries'>;
  const size = new Float64Array(length);
  const kinds = new Uint16Array(length);
  const id = new Uint32Array(length);
  for (let row = 0; row < length; row++) {
    const at = place[row] as number;
    size[row] = files.size[at] as number;
    kinds[row] = kindBitOf(files.kind[at] as number);
    id[row] = row + 1;
  }
  const dictionaries =
    kept === 0 ? messages.dictionaries : withPlaces(gathered, messages.dictionaries, files, place, kept);
  return { columns: { ...gathered, id, size, kinds, length, dictionaries }, place };
}

/** The address of nobody, which no author has. */
export const NOBODY = '\n';

/** Where a row has no message: it is gone, or the file lies in a file space. */
const GONE = -1;
const IN_SPACE = -2;

/** Gives files of file spaces their dates and folders, and an author that is nobody. @returns dictionaries that hold these too. */
function withPlaces(
  { received, date, folder, author }: Pick<Columns, 'received' | 'date' | 'folder' | 'author'>,
  known: Columns['dictionaries'],
  files: FileColumns,
  place: Uint32Array,
  kept: number,
): Columns['dictionaries'] {
  const folders = [...known.folder];
  const codes = new Map<string, number>();
  for (let row = 0; row < kept; row++) {
    const at = place[row] as number;
    const path = files.folder[at] as string;
    let code = codes.get(path);
    if (code === undefined) {
      code = folders.push(path) - 1;
      codes.set(path, code);
    }
    folder[row] = code;
    author[row] = known.author.name.length;
    received[row] = date[row] = files.changed[at] as number;
  }
  const nobody = (texts: readonly string[]) => [...texts, ''];
  const { name, address, host, domain } = known.author;
  return {
    ...known,
    folder: folders,
    author: { name: nobody(name), address: [...address, NOBODY], host: nobody(host), domain: nobody(domain) },
  };
}
