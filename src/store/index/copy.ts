import { once } from 'node:events';
import { from as copyFrom } from 'pg-copy-streams';
import type { Queryable } from '../database';

/** Signature, flags and length of the extension (PostgreSQL, COPY, binary format). */
const HEADER = Buffer.from('PGCOPY\n\xff\r\n\0\0\0\0\0\0\0\0\0', 'latin1');
/** Milliseconds from the Unix epoch to that of PostgreSQL, 2000-01-01. */
const EPOCH = Date.UTC(2000, 0);
const TEXT_OID = 25;
/** In place of the number of a row's values. */
const END = Buffer.from([0xff, 0xff]);
const NONE: ReadonlySet<number> = new Set();

/** Octets before a row's first value, and of a bigint with its length before it. */
const ROW_HEAD = 2;
const BIGINT = 12;

/**
 * Rows in the binary format of COPY, one value after the other. Integers at the beginning of a row may be written again
 * when more is known. The buffer is used again for the next rows.
 */
export class CopyRows {
  private buffer = Buffer.allocUnsafe(1024 * 1024);
  private at = HEADER.length;
  private readonly starts: number[] = [];

  constructor(private readonly columns: readonly string[]) {}

  clear(): void {
    this.at = HEADER.length;
    this.starts.length = 0;
  }

  /** Begins a row; as many values as there are columns have to follow. */
  row(): void {
    this.starts.push(this.at);
    this.room(ROW_HEAD);
    this.at = this.buffer.writeInt16BE(this.columns.length, this.at);
  }

  /** Writes one of the values again with which a row begins, all of which are bigints. */
  patch(row: number, column: number, value: number): void {
    const end = this.at;
    this.at = (this.starts[row] as number) + ROW_HEAD + column * BIGINT;
    this.bigint(value);
    this.at = end;
  }

  null(): void {
    this.room(4);
    this.at = this.buffer.writeInt32BE(-1, this.at);
  }

  boolean(value: boolean): void {
    this.room(5);
    this.at = this.buffer.writeInt32BE(1, this.at);
    this.at = this.buffer.writeUInt8(value ? 1 : 0, this.at);
  }

  smallint(value: number): void {
    this.room(6);
    this.at = this.buffer.writeInt32BE(2, this.at);
    this.at = this.buffer.writeInt16BE(value, this.at);
  }

  integer(value: number): void {
    this.room(8);
    this.at = this.buffer.writeInt32BE(4, this.at);
    this.at = this.buffer.writeInt32BE(value, this.at);
  }

  /** An integer below 2^53. */
  bigint(value: number): void {
    this.room(12);
    this.at = this.buffer.writeInt32BE(8, this.at);
    this.int64(value);
  }

  timestamp(value: Date): void {
    this.room(12);
    this.at = this.buffer.writeInt32BE(8, this.at);
    this.int64((value.getTime() - EPOCH) * 1000);
  }

  text(value: string): void {
    this.room(4 + value.length * 3);
    this.sized(value, 0);
  }

  /** @param text JSON. */
  json(text: string): void {
    this.room(5 + text.length * 3);
    // The version of jsonb's format goes before the text.
    this.buffer[this.at + 4] = 1;
    this.sized(text, 1);
  }

  texts(values: readonly string[]): void {
    this.room(24);
    const start = this.at;
    this.at += 4;
    // Dimensions, whether there are nulls, the type; then length and lower bound of the dimension, where there is one.
    for (const word of values.length === 0 ? [0, 0, TEXT_OID] : [1, 0, TEXT_OID, values.length, 1])
      this.at = this.buffer.writeInt32BE(word, this.at);
    for (const value of values) this.text(value);
    this.buffer.writeInt32BE(this.at - start - 4, start);
  }

  /**
   * Sends the rows to a table, in a transaction of the caller's.
   *
   * @param left rows that are not sent.
   */
  async into(db: Queryable, table: string, left: ReadonlySet<number> = NONE): Promise<void> {
    HEADER.copy(this.buffer);
    const stream = db.query(copyFrom(`copy ${table} (${this.columns.join(', ')}) from stdin (format binary)`));
    let from = 0;
    for (const row of left) {
      stream.write(this.buffer.subarray(from, this.starts[row]));
      from = this.starts[row + 1] ?? this.at;
    }
    stream.write(this.buffer.subarray(from, this.at));
    stream.end(END);
    await once(stream, 'finish');
  }

  private sized(text: string, prefix: number): void {
    const start = this.at + 4 + prefix;
    const length = this.utf8(text, start);
    this.buffer.writeInt32BE(length + prefix, this.at);
    this.at = start + length;
  }

  /** Writes UTF-8; a short text of ASCII is quicker by hand than by a call out of the engine. */
  private utf8(text: string, start: number): number {
    const { buffer } = this;
    if (text.length > 40) return buffer.write(text, start);
    for (let index = 0; index < text.length; index++) {
      const unit = text.charCodeAt(index);
      if (unit > 0x7f) return buffer.write(text, start);
      buffer[start + index] = unit;
    }
    return text.length;
  }

  private int64(value: number): void {
    const high = Math.floor(value / 2 ** 32);
    this.at = this.buffer.writeInt32BE(high, this.at);
    this.at = this.buffer.writeUInt32BE(value - high * 2 ** 32, this.at);
  }

  private room(octets: number): void {
    if (this.at + octets <= this.buffer.length) return;
    const larger = Buffer.allocUnsafe(Math.max(this.buffer.length * 2, this.at + octets));
    this.buffer.copy(larger, 0, 0, this.at);
    this.buffer = larger;
  }
}
