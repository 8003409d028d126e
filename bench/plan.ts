import { type Columns, encode } from '../src/core/columns/columns';
import { criteriaToMask } from '../src/core/columns/mask';
import { parseCriteria } from '../src/core/criteria/parse';
import type { Criteria } from '../src/core/criteria/tree';
import { FLAG_BITS } from '../src/core/mailbox/flags';
import { type Bits, emptyBits, setBit } from '../src/core/plan/bits';
import { lotSet, planFigures } from '../src/core/plan/plan';
import { suggest } from '../src/core/plan/suggestions';
import { groupRows } from '../src/core/senders/grouping';
import { peopleOf } from '../src/core/senders/people';
import { figuresOf, knowledgeOf, rankGroups } from '../src/core/senders/ranking';
import { Random } from '../stand-in/message/random';
import { sampleColumns } from '../test/column-samples';
import { DuckDb } from '../test/duckdb';
import { countsAsked, median, peakMemory, printResults, rounded, timed } from './measure';

/**
 * Senders and the plan beside DuckDB in WebAssembly, as a page would run it, which runs the equivalent queries over the same rows in the same
 * process: every sender ranked under a changed filter, and what each of many overlapping lots holds, adds and holds
 * alone. The suggestions have no equivalent there and are told as a multiple of that ranking. Prints JSON and a table.
 */

const NOW = new Date('2026-11-25T00:00:00Z');
const ROUNDS = 7;
const LOTS = 300;

/** Lots of very unequal size that overlap: whole stretches, and rows strewn about. */
function makeLots(rows: number): Bits[] {
  const random = new Random(7);
  return Array.from({ length: LOTS }, () => {
    const bits = emptyBits(rows);
    const count = Math.floor(rows * 0.05 * random.next() ** 4);
    const start = random.below(rows);
    const strewn = random.next() < 0.5;
    for (let member = 0; member < count; member++) setBit(bits, strewn ? random.below(rows) : (start + member) % rows);
    return bits;
  });
}

async function duckDb(columns: Columns, lots: Bits[]): Promise<DuckDb> {
  const addresses = encode(columns.dictionaries.author.address).codes;
  const database = await DuckDb.open();
  database.insert('mail', {
    n: Int32Array.from(columns.author.keys()),
    size: Float64Array.from(columns.size),
    date: Float64Array.from(columns.date),
    address: Int32Array.from(columns.author, (code) => addresses[code] as number),
    flags: Int32Array.from(columns.flags),
    category: Int32Array.from(columns.category),
    files: Int32Array.from(columns.files),
    attached: Float64Array.from(columns.attached),
  });
  const members = lots.flatMap((bits, lot) => {
    const rows: [number, number][] = [];
    for (let row = 0; row < columns.length; row++)
      if (((bits[row >>> 5] as number) >>> (row & 31)) & 1) rows.push([lot, row]);
    return rows;
  });
  database.insert('member', {
    lot: Int32Array.from(members, ([lot]) => lot),
    n: Int32Array.from(members, ([, row]) => row),
  });
  return database;
}

const ranking = (least: number) => `
  select address, count(*), sum(size), min(date), max(date), count(*) filter (flags & ${FLAG_BITS.seen} = 0),
    count(*) filter (flags & ${FLAG_BITS.answered} <> 0), count(*) filter (flags & ${FLAG_BITS.flagged} <> 0), max(size),
    count(*) filter (files > 0), sum(attached), ${[0, 1, 2, 3, 4, 5, 6].map((category) => `count(*) filter (category = ${category})`).join(', ')}
  from mail where size >= ${least} group by address order by 3 desc`;

const FIGURES = `
  with place as (select n, min(lot) as first, count(*) as many from member group by n)
  select lot, count(*), sum(size), count(*) filter (lot = first), sum(size) filter (lot = first),
    count(*) filter (many = 1), sum(size) filter (many = 1)
  from member join place using (n) join mail using (n) group by lot order by lot`;

async function measure(count: number) {
  const columns = sampleColumns(count);
  const lots = makeLots(count);
  const database = await duckDb(columns, lots);
  const sets = lots.map((bits) => lotSet(bits, columns.size));
  const scope = new Uint8Array(count).fill(1);
  const grouping = groupRows(columns, 'address');
  const knowledge = knowledgeOf(columns, grouping, scope, NOW.getTime() / 1000);
  const context = { now: NOW, timeZone: 'UTC', outside: new Map<string, Uint8Array>() };
  const rank = (least: number) => {
    const parsed = parseCriteria(`size >= ${least}`) as { criteria: Criteria };
    const figures = figuresOf(columns, grouping, criteriaToMask(parsed.criteria, columns, context));
    return { figures, order: rankGroups(figures, knowledge, 'bytes', true) };
  };
  const times: Record<'rank' | 'duckRank' | 'plan' | 'duckPlan' | 'people' | 'suggest', number[]> = {
    rank: [],
    duckRank: [],
    plan: [],
    duckPlan: [],
    people: [],
    suggest: [],
  };
  const missing = { bytes: columns.size.reduce((sum, size) => sum + size, 0) * 0.15 };
  let decisions: number | null = null;
  for (let round = 0; round < ROUNDS; round++) {
    const least = 5_000 + round * 100;
    times.rank.push(await timed(() => rank(least)));
    times.duckRank.push(await timed(() => database.query(ranking(least))));
    times.plan.push(await timed(() => planFigures(sets, columns.size)));
    times.duckPlan.push(await timed(() => database.query(FIGURES)));
    let people: ReturnType<typeof peopleOf> | undefined;
    times.people.push(await timed(() => (people = peopleOf(columns, scope, NOW.getTime() / 1000))));
    times.suggest.push(
      await timed(() => {
        const known = people as ReturnType<typeof peopleOf>;
        decisions = suggest(columns, scope, emptyBits(count), known, {
          ...context,
          free: [],
          dismissed: [],
          leftOut: [],
          missing,
        }).reach;
      }),
    );
    if (round > 0) continue;
    const [first] = database.query(ranking(least));
    const { figures, order } = rank(least);
    if (Number(first?.[2]) !== figures.bytes[order[0] as number]) throw new Error('the two rankings disagree');
    const rows = database.query(FIGURES);
    const ours = planFigures(sets, columns.size).lots;
    for (const row of rows)
      if (
        Number(row[4] ?? 0) !== ours[Number(row[0])]?.adds.bytes ||
        Number(row[6] ?? 0) !== ours[Number(row[0])]?.only.bytes
      )
        throw new Error(`the two disagree on lot ${row[0]}`);
  }
  database.close();
  return {
    messages: count,
    senders: grouping.keys.length,
    'all senders under a changed filter, ms': rounded(median(times.rank)),
    'the same by DuckDB in WebAssembly, ms': rounded(median(times.duckRank)),
    'ranking, ours / DuckDB': rounded(median(times.rank) / median(times.duckRank)),
    [`figures of ${LOTS} lots, ms`]: rounded(median(times.plan)),
    'the same by DuckDB in WebAssembly, in ms': rounded(median(times.duckPlan)),
    'lots, ours / DuckDB': rounded(median(times.plan) / median(times.duckPlan)),
    'evidence of everybody, ms': rounded(median(times.people)),
    'suggestions, ms': rounded(median(times.suggest)),
    'suggestions / ranking by DuckDB': rounded(median(times.suggest) / median(times.duckRank)),
    'decisions to the target': decisions,
    'peak memory, MB': peakMemory(),
  };
}

const results = [];
for (const count of countsAsked([100_000, 1_000_000])) results.push(await measure(count));
printResults(results);
