import { promisify } from 'node:util';
import { deflateRaw, inflateRaw } from 'node:zlib';
import { LRUCache } from 'lru-cache';
import { type Ranges, rangesOf } from '../../core/sets/ranges';
import { fold } from '../../core/text';
import { type PackedSegment, Segment } from '../../core/words/segment';
import { fragmentsOf, withoutLines } from '../../core/words/tokens';
import { type Database, type Queryable, rows } from '../database';

const deflated = promisify(deflateRaw);
const inflated = promisify(inflateRaw);

/** Octets of segments that are kept in memory, of all accounts. */
const MOST_KEPT = 128 * 2 ** 20;
/** Octets that a block of texts, or a part of a segment, may have: more was never written. */
const MOST_OCTETS = 256 * 2 ** 20;
/** In pieces of a mebioctet: each piece is a turn of its own, and a block has not many. */
const INFLATING = { maxOutputLength: MOST_OCTETS, chunkSize: 2 ** 20 };
/** Blocks of texts that are read at a time. */
const BLOCKS = 16;

/** Texts of messages that follow each other, as they are searched: none holds a line feed. */
export interface TextBlock {
  first: number;
  texts: readonly string[];
}

/** A block of texts as it is kept. */
export interface PackedBlock {
  first: number;
  texts: number;
  octets: Buffer;
}

export async function packedBlock({ first, texts }: TextBlock): Promise<PackedBlock> {
  return { first, texts: texts.length, octets: await deflated(texts.join('\n')) };
}

/** Writes the words of messages that follow each other down, and their texts. */
export async function saveWords(
  db: Queryable,
  account: number,
  bag: number,
  words: { first: number; texts: number; packed: PackedSegment },
  blocks: readonly PackedBlock[],
): Promise<void> {
  const { first, texts, packed } = words;
  await db.query(
    'insert into archived_words (account, bag, first, texts, words, lengths, numbers) values ($1, $2, $3, $4, $5, $6, $7)',
    [account, bag, first, texts, await deflated(packed.words), await deflated(packed.lengths), packed.numbers],
  );
  await db.query(
    `insert into archived_text (account, bag, first, texts, octets)
     select $1, $2, b.* from unnest($3::bigint[], $4::int[], $5::bytea[]) as b (first, texts, octets)`,
    [
      account,
      bag,
      blocks.map((block) => block.first),
      blocks.map((block) => block.texts),
      blocks.map((block) => block.octets),
    ],
  );
}

/** Finds texts in the archive. Segments that were read stay in memory for a while, as what was written never changes. */
export class ArchiveWords {
  private readonly segments = new LRUCache<string, Segment>({
    maxSize: MOST_KEPT,
    sizeCalculation: ({ size }) => size,
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
    const { fragments, isExact } = fragmentsOf(wanted);
    const stored = await rows<{ first: number; texts: number }>(
      this.database,
      'select first, texts from archived_words where account = $1 order by first',
      [account],
    );
    const candidates: number[] = [];
    for (const { first, texts } of stored) {
      const segment = await this.segment(account, first, texts);
      const bits = fragments.map((fragment) => segment.find(fragment));
      for (let text = 0; text < texts; text++)
        if (bits.every((each) => each[text] === 1)) candidates.push(first + text);
    }
    return isExact ? candidates : this.verified(account, wanted, candidates);
  }

  private async segment(account: number, first: number, texts: number): Promise<Segment> {
    const key = `${account} ${first}`;
    const kept = this.segments.get(key);
    if (kept) return kept;
    const [packed] = await rows<{ words: Buffer; lengths: Buffer; numbers: Buffer }>(
      this.database,
      'select words, lengths, numbers from archived_words where account = $1 and first = $2',
      [account, first],
    );
    // Its bag was erased in between.
    if (!packed) return new Segment(NOTHING, texts);
    const segment = new Segment(
      {
        words: await inflated(packed.words, INFLATING),
        lengths: await inflated(packed.lengths, INFLATING),
        numbers: packed.numbers,
      },
      texts,
    );
    this.segments.set(key, segment);
    return segment;
  }

  /** Those of some messages, in their order, whose text contains what is wanted. */
  private async verified(account: number, wanted: string, candidates: readonly number[]): Promise<number[]> {
    const needle = Buffer.from(wanted, 'utf8');
    const found: number[] = [];
    let at = 0;
    for (const some of await this.blocksOf(account, candidates)) {
      const packed = await rows<PackedBlock>(
        this.database,
        'select first, texts, octets from archived_text where account = $1 and first = any($2::bigint[]) order by first',
        [account, some],
      );
      const read = await Promise.all(packed.map(({ octets }) => inflated(octets, INFLATING)));
      for (const [index, { first }] of packed.entries())
        for (const text of textsWith(read[index] as Buffer, needle)) {
          while (at < candidates.length && (candidates[at] as number) < first + text) at++;
          if (candidates[at] === first + text) found.push(first + text);
        }
    }
    return found;
  }

  /** The blocks that hold some messages, by their first ones, some at a time. */
  private async blocksOf(account: number, ids: readonly number[]): Promise<number[][]> {
    const blocks = await rows<{ first: number; texts: number }>(
      this.database,
      'select first, texts from archived_text where account = $1 order by first',
      [account],
    );
    const groups: number[][] = [];
    let at = 0;
    for (const { first, texts } of blocks) {
      while (at < ids.length && (ids[at] as number) < first) at++;
      if (at === ids.length || (ids[at] as number) >= first + texts) continue;
      const group = groups.at(-1);
      if (group && group.length < BLOCKS) group.push(first);
      else groups.push([first]);
    }
    return groups;
  }
}

const FEED = 10;

/** Which of texts that are parted by line feeds contain some octets, by their place among them. */
function* textsWith(texts: Buffer, wanted: Buffer): Generator<number> {
  let text = 0;
  let from = 0;
  for (let at = texts.indexOf(wanted); at >= 0; ) {
    for (let feed = texts.indexOf(FEED, from); feed >= 0 && feed < at; feed = texts.indexOf(FEED, from)) {
      text++;
      from = feed + 1;
    }
    yield text;
    // One is enough.
    const end = texts.indexOf(FEED, at);
    if (end < 0) return;
    at = texts.indexOf(wanted, end + 1);
  }
}

const NOTHING: PackedSegment = { words: new Uint8Array(), lengths: new Uint8Array(), numbers: new Uint8Array() };
