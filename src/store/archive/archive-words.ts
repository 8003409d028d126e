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
/** Blocks of texts that are read at a time. */
const BLOCKS = 16;

/** Folded texts of messages that follow each other. */
export interface TextBlock {
  first: number;
  texts: string[];
}

/** A block of texts as it is kept. */
export interface PackedBlock {
  first: number;
  texts: number;
  octets: Buffer;
}

export async function packedBlock({ first, texts }: TextBlock): Promise<PackedBlock> {
  return { first, texts: texts.length, octets: await deflated(JSON.stringify(texts)) };
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
        words: await inflated(packed.words, { maxOutputLength: MOST_OCTETS }),
        lengths: await inflated(packed.lengths, { maxOutputLength: MOST_OCTETS }),
        numbers: packed.numbers,
      },
      texts,
    );
    this.segments.set(key, segment);
    return segment;
  }

  /** Those of some messages whose text contains what is wanted. */
  private async verified(account: number, wanted: string, candidates: readonly number[]): Promise<number[]> {
    if (candidates.length === 0) return [];
    const among = new Set(candidates);
    const blocks = await rows<{ first: number }>(
      this.database,
      `select distinct t.first from unnest($2::bigint[]) as c (id) cross join lateral (
         select first, texts from archived_text where account = $1 and first <= c.id order by first desc limit 1) t
       where c.id < t.first + t.texts order by t.first`,
      [account, candidates],
    );
    const found: number[] = [];
    for (let at = 0; at < blocks.length; at += BLOCKS) {
      const some = await rows<PackedBlock>(
        this.database,
        'select first, texts, octets from archived_text where account = $1 and first = any($2::bigint[]) order by first',
        [account, blocks.slice(at, at + BLOCKS).map(({ first }) => first)],
      );
      const read = await Promise.all(some.map(({ octets }) => inflated(octets, { maxOutputLength: MOST_OCTETS })));
      for (const [index, { first }] of some.entries())
        for (const [text, folded] of (JSON.parse((read[index] as Buffer).toString('utf8')) as string[]).entries())
          if (among.has(first + text) && folded.includes(wanted)) found.push(first + text);
    }
    return found;
  }
}

const NOTHING: PackedSegment = { words: new Uint8Array(), lengths: new Uint8Array(), numbers: new Uint8Array() };
