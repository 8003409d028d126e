import { expectedGainSql } from '../../core/files/shrinking';
import { NOTE_OCTETS } from '../../core/mime/note';
import { type Bits, hasBit, setBit } from '../../core/plan/bits';
import { includes, parseMultirange } from '../../core/sets/ranges';
import { type Queryable, theRow } from '../database';
import { unpacked } from '../index/packed';

/** The octets that a file f loses, as `shrinking` says: taken out all, less those of what stands in its place; made smaller about so many. */
export const WON = `case when shrinking is null then greatest(f.own_size - ${NOTE_OCTETS}, 0)
  else ${expectedGainSql('f.own_size', "(shrinking->>'longest')::int")} end`;

/**
 * The rows over which the lots of a plan are compared (core/plan). First the messages. Where lots take files out of some, two
 * more a file: what of the message is in none of these files, at the first of them, and the file. Who deletes a message
 * has all its rows; who takes a file out has the message's own, which counts it, and that of the file.
 */
export class PlanRows {
  private constructor(
    /** Octets by row. */
    readonly sizes: Float64Array,
    /** How many rows are messages. */
    readonly messages: number,
    /** By file, the row of its message. */
    private readonly rows: Int32Array,
    private readonly files: Float64Array,
  ) {}

  /** @param ids of the live placements of the plan, rising, and @param sizes their octets. */
  static async of(db: Queryable, account: number, ids: ArrayLike<number>, sizes: Float64Array): Promise<PlanRows> {
    const packed = await theRow<{ placements: Buffer | null; files: Buffer | null; octets: Buffer | null }>(
      db,
      `with losing as materialized (
         select shrinking, range_agg(files) as files from lot where account = $1 and run is null and files is not null
         group by shrinking)
       select string_agg(int4send(id::int), ''::bytea) as placements, string_agg(float8send(file::float8), ''::bytea) as files,
         string_agg(float8send(won::float8), ''::bytea) as octets
       from (select p.id, f.id as file, max(${WON}) as won from losing cross join lateral unnest(losing.files) as span
             cross join lateral (select * from file where account = $1 and id >= lower(span) and id < upper(span) offset 0) f
             cross join lateral (
               select id from placement where account = $1 and message = f.id / 512 and gone_at is null offset 0) p
             group by p.id, f.id order by p.id, f.id) taken`,
      [account],
    );
    const placements = unpacked(packed.placements, 4);
    const files = unpacked(packed.files, 8);
    const octets = unpacked(packed.octets, 8);
    const found: { row: number; file: number; octets: number }[] = [];
    let row = 0;
    for (const [at, placement] of placements.entries()) {
      while (row < ids.length && (ids[row] as number) < placement) row++;
      if (ids[row] === placement) found.push({ row, file: files[at] as number, octets: octets[at] as number });
    }
    return new PlanRows(
      parted(sizes, found),
      sizes.length,
      Int32Array.from(found, (each) => each.row),
      Float64Array.from(found, (each) => each.file),
    );
  }

  /** The rows of messages that are deleted. */
  deleted(messages: Bits): Bits {
    return this.with(messages, (at, row, bits) => {
      if (!hasBit(messages, row)) return;
      setBit(bits, this.messages + 2 * at);
      setBit(bits, this.messages + 2 * at + 1);
    });
  }

  /** The rows of messages some of whose files are taken out. @param taken a multirange of files. */
  withoutFiles(messages: Bits, taken: string): Bits {
    const ranges = parseMultirange(taken);
    return this.with(messages, (at, row, bits) => {
      if (hasBit(messages, row) && includes(ranges, this.files[at] as number)) setBit(bits, this.messages + 2 * at + 1);
    });
  }

  private with(messages: Bits, add: (at: number, row: number, bits: Bits) => void): Bits {
    if (this.rows.length === 0) return messages;
    const bits = new Uint32Array((this.sizes.length + 31) >>> 5);
    bits.set(messages);
    for (const [at, row] of this.rows.entries()) add(at, row, bits);
    return bits;
  }
}

/** Octets by row: what each file has goes from its message's rest to a row of its own. */
function parted(sizes: Float64Array, files: readonly { row: number; octets: number }[]): Float64Array {
  const octets = new Float64Array(sizes.length + 2 * files.length);
  octets.set(sizes);
  let first = 0;
  for (const [at, file] of files.entries()) {
    if (files[at - 1]?.row !== file.row) {
      first = sizes.length + 2 * at;
      octets[first] = octets[file.row] as number;
      octets[file.row] = 0;
    }
    const won = Math.min(file.octets, octets[first] as number);
    octets[first] = (octets[first] as number) - won;
    octets[sizes.length + 2 * at + 1] = won;
  }
  return octets;
}
