import { promisify } from 'node:util';
import { deflateRaw, inflateRaw } from 'node:zlib';
import { LRUCache } from 'lru-cache';
import { type Ranges, rangesOf } from '../../core/sets/ranges';
import { fold } from '../../core/text';
import { type PositionReader, textsContaining } from '../../core/words/phrase';
import { type PackedSegment, Segment } from '../../core/words/segment';
import { withoutLines } from '../../core/words/tokens';
import { type Database, type Queryable, rows } from '../database';

const deflated = promisify(deflateRaw);
const inflated = promisify(inflateRaw);

/** Octets of segments that are kept in memory, of all accounts, and of positions. */
const MOST_KEPT = 128 * 2 ** 20;
const MOST_POSITIONS_KEPT = 64 * 2 ** 20;
/** Octets that a part of a segment may have: more was never written. */
const MOST_OCTETS = 256 * 2 ** 20;
/** In pieces of a mebioctet: each piece is a turn of its own. */
const INFLATING = { maxOutputLength: MOST_OCTETS, chunkSize: 2 ** 20 };
/** Tokens whose positions are asked for one by one; of more, or of such a share of all octets, those of all are. */
const MOST_ONE_BY_ONE = 500;
const SHARE_ONE_BY_ONE = 0.5;

/** Writes the words of messages that follow each other down. */
export async function saveWords(
  db: Queryable,
  account: number,
  bag: number,
  { first, texts, packed }: { first: number; texts: number; packed: PackedSegment },
): Promise<void> {
  await db.query(
    `insert into archived_words (account, bag, first, texts, words, lengths, numbers, positions, counts)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9)`,
    [
      ...[account, bag, first, texts, await deflated(packed.words), await deflated(packed.lengths)],
      ...[packed.numbers, packed.positions, await deflated(packed.counts)],
    ],
  );
}

/** Finds texts in the archive. What was read of it stays in memory for a while, as what was written never changes. */
export class ArchiveWords {
  private readonly segments = new LRUCache<string, Segment>({
    maxSize: MOST_KEPT,
    sizeCalculation: ({ size }) => size,
  });
  private readonly positions = new LRUCache<string, Buffer>({
    maxSize: MOST_POSITIONS_KEPT,
    // What a map takes for each besides.
    sizeCalculation: ({ length }) => length + 200,
  });

  constructor(private readonly database: Database) {}

  /** The archived messages of an account that contain each text, by the text folded. */
  async find(account: number, texts: readonly string[]): Promise<Map<string, Ranges>> {
    const found = new Map<string, Ranges>();
    for (const text of texts) {
      const folded = fold(text);
      if (!found.has(folded)) found.set(folded, rangesOf(await this.containing(account, withoutLines(folded))));
    }
    return found;
  }

  private async containing(account: number, wanted: string): Promise<number[]> {
    const stored = await rows<{ first: number; texts: number }>(
      this.database,
      'select first, texts from archived_words where account = $1 order by first',
      [account],
    );
    const found: number[] = [];
    for (const { first, texts } of stored) {
      const segment = await this.segment(account, first, texts);
      const bits = await textsContaining(segment, wanted, this.positionsOf(account, first, segment));
      for (let text = 0; text < texts; text++) if (bits[text] === 1) found.push(first + text);
    }
    return found;
  }

  private async segment(account: number, first: number, texts: number): Promise<Segment> {
    const key = `${account} ${first}`;
    const kept = this.segments.get(key);
    if (kept) return kept;
    const [packed] = await rows<{ words: Buffer; lengths: Buffer; numbers: Buffer; counts: Buffer }>(
      this.database,
      'select words, lengths, numbers, counts from archived_words where account = $1 and first = $2',
      [account, first],
    );
    // Its bag was erased in between.
    if (!packed) return new Segment(NOTHING, 0);
    const segment = new Segment(
      {
        words: await inflated(packed.words, INFLATING),
        lengths: await inflated(packed.lengths, INFLATING),
        numbers: packed.numbers,
        counts: await inflated(packed.counts, INFLATING),
      },
      texts,
    );
    this.segments.set(key, segment);
    return segment;
  }

  private positionsOf(account: number, first: number, segment: Segment): PositionReader {
    const keyOf = (token: number) => `${account} ${first} ${token}`;
    return async (tokens) => {
      const read = new Map<number, Buffer>();
      const missing: number[] = [];
      let octets = 0;
      for (const token of tokens) {
        const kept = this.positions.get(keyOf(token));
        if (kept) read.set(token, kept);
        else {
          const [from, to] = segment.positionsAt(token);
          octets += to - from;
          missing.push(token);
        }
      }
      const isOneByOne = missing.length <= MOST_ONE_BY_ONE && octets <= SHARE_ONE_BY_ONE * segment.positionOctets;
      const fetched = isOneByOne
        ? await this.readEach(account, first, segment, missing)
        : await this.readOfAll(account, first, segment, missing);
      for (const [at, token] of missing.entries()) {
        const found = fetched[at] as Buffer;
        read.set(token, found);
        this.positions.set(keyOf(token), found);
      }
      return tokens.map((token) => read.get(token) as Buffer);
    };
  }

  /** What is stored without compression is read in part without reading the rest. */
  private async readEach(
    account: number,
    first: number,
    segment: Segment,
    tokens: readonly number[],
  ): Promise<Buffer[]> {
    if (tokens.length === 0) return [];
    const places = tokens.map((token) => segment.positionsAt(token));
    const found = await rows<{ octets: Buffer }>(
      this.database,
      `select substring(w.positions from place.begin + 1 for place.length) as octets
       from archived_words w cross join unnest($3::int[], $4::int[]) with ordinality as place (begin, length, number)
       where w.account = $1 and w.first = $2 order by place.number`,
      [account, first, places.map(([from]) => from), places.map(([from, to]) => to - from)],
    );
    // Its bag was erased in between.
    return tokens.map((_, at) => found[at]?.octets ?? Buffer.alloc(0));
  }

  private async readOfAll(
    account: number,
    first: number,
    segment: Segment,
    tokens: readonly number[],
  ): Promise<Buffer[]> {
    const [found] = await rows<{ positions: Buffer }>(
      this.database,
      'select positions from archived_words where account = $1 and first = $2',
      [account, first],
    );
    // What is kept keeps no more than itself in memory.
    return tokens.map((token) =>
      Buffer.from((found?.positions ?? Buffer.alloc(0)).subarray(...segment.positionsAt(token))),
    );
  }
}

const NOTHING: PackedSegment = {
  words: new Uint8Array(),
  lengths: new Uint8Array(),
  numbers: new Uint8Array(),
  positions: new Uint8Array(),
  counts: new Uint8Array(),
};
