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

/** The files of a mailbox as columns, in the rising order of their ids. Each has one of its message's placements. */
export interface FileColumns {
  readonly length: number;
  /** Ids of core/files, below 2^53. */
  readonly id: Float64Array;
  readonly placement: Uint32Array;
  /** Encoded octets; of an enclosed message without the files inside it. */
  readonly size: Float64Array;
  /** Numbers of core/files/kinds. */
  readonly kind: Uint8Array;
  /** Numbers of core/files/copies. */
  readonly copy: Uint8Array;
  readonly name: readonly string[];
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
  ] as const;
  const names = vectorFromArray(files.name as string[], new Utf8());
  const fields = [...numbers.map(([name, type]) => new Field(name, type, false)), new Field('name', new Utf8(), false)];
  const children = [
    ...numbers.map(([, type, data]) => makeData({ type, length, nullCount: 0, data } as never)),
    names.data[0] ?? makeData({ type: new Utf8(), length: 0, nullCount: 0 } as never),
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
  const names = table.getChild('name');
  return {
    length,
    id: numbers('id') ?? new Float64Array(none),
    placement: numbers('placement') ?? new Uint32Array(none),
    size: numbers('size') ?? new Float64Array(none),
    kind: numbers('kind') ?? new Uint8Array(none),
    copy: numbers('copy') ?? new Uint8Array(none),
    name: Array.from({ length }, (_, row) => (names?.get(row) as string | null) ?? ''),
  };
}

/**
 * Files as rows like those of messages: what narrows, orders and counts these does so with files. The id of a row is its place,
 * its size and kind are the file's, all else is its message's.
 *
 * @returns the columns, and by row the place of its file among the file columns. Files without a message are left out.
 */
export function columnsOfFiles(files: FileColumns, messages: Columns): { columns: Columns; place: Uint32Array } {
  const rows = new Int32Array(files.length);
  let length = 0;
  for (let at = 0; at < files.length; at++) {
    rows[at] = rowOfId(messages, files.placement[at] as number);
    if ((rows[at] as number) >= 0) length++;
  }
  const place = new Uint32Array(length);
  const message = new Uint32Array(length);
  for (let at = 0, row = 0; at < files.length; at++) {
    if ((rows[at] as number) < 0) continue;
    place[row] = at;
    message[row++] = rows[at] as number;
  }
  const gathered = Object.fromEntries(
    [...NUMBER_COLUMNS, ...TEXT_COLUMNS, 'author' as const].map((name) => {
      const from = messages[name];
      const into = new (from.constructor as new (length: number) => typeof from)(length);
      for (let row = 0; row < length; row++) into[row] = from[message[row] as number] as number;
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
  return { columns: { ...gathered, id, size, kinds, length, dictionaries: messages.dictionaries }, place };
}
