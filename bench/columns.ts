import { monthColumn, monthsOf, sizeColumn } from '../src/core/columns/axes';
import { type Columns, encode } from '../src/core/columns/columns';
import { CrossFilter } from '../src/core/columns/cross-filter';
import { criteriaToMask } from '../src/core/columns/mask';
import { largest } from '../src/core/columns/order';
import { parseCriteria } from '../src/core/criteria/parse';
import type { Criteria } from '../src/core/criteria/tree';
import { sampleColumns } from '../test/column-samples';
import { DuckDb } from '../test/duckdb';
import { countsAsked, median, peakMemory, printResults, rounded, timed } from './measure';

/**
 * Cross-filtering beside DuckDB in WebAssembly, as a page would run it, with the equivalent queries over the same rows in the
 * same process: a filter on three dimensions, and every distribution under the filters of the others. Prints JSON and a table.
 */

const NOW = new Date('2026-11-25T00:00:00Z');
const ROUNDS = 9;

interface Filter {
  size: [number, number];
  time: [number, number];
  category: number[];
}

async function duckDb(columns: Columns, months: Float64Array): Promise<DuckDb> {
  const { author } = columns.dictionaries;
  const [addresses, domains] = [encode(author.address).codes, encode(author.domain).codes];
  const database = await DuckDb.open();
  database.insert('mail', {
    size: Float64Array.from(columns.size),
    received: Float64Array.from(columns.received),
    month: Int32Array.from(monthColumn(columns.received, months)),
    bin: Int32Array.from(sizeColumn(columns)),
    category: Int32Array.from(columns.category),
    folder: Int32Array.from(columns.folder),
    address: Int32Array.from(columns.author, (code) => addresses[code] as number),
    domain: Int32Array.from(columns.author, (code) => domains[code] as number),
  });
  return database;
}

function queries({ size, time, category }: Filter): string[] {
  const conditions = {
    size: `size >= ${size[0]} and size < ${size[1]}`,
    time: `received >= ${time[0]} and received < ${time[1]}`,
    category: `category in (${category.join(', ')})`,
  };
  const where = (...ignored: string[]) => {
    const kept = Object.entries(conditions).filter(([name]) => !ignored.includes(name));
    return kept.length > 0 ? `where ${kept.map(([, condition]) => condition).join(' and ')}` : '';
  };
  const grouped = (by: string, ...ignored: string[]) =>
    `select ${by}, count(*), sum(size) from mail ${where(...ignored)} group by ${by}`;
  return [
    `select count(*), sum(size) from mail ${where()}`,
    grouped('month', 'time'),
    grouped('bin', 'size'),
    grouped('month, bin', 'size', 'time'),
    grouped('category', 'category'),
    grouped('folder'),
    `${grouped('address')} order by 3 desc limit 100`,
    `${grouped('address')} order by 2 desc limit 100`,
    `${grouped('domain')} order by 3 desc limit 100`,
  ];
}

function tops(linked: CrossFilter): number {
  return (
    largest(linked.now.senders.bytes, 100).length +
    largest(linked.now.senders.messages, 100).length +
    largest(linked.now.domains.bytes, 100).length
  );
}

async function measure(count: number) {
  const columns = sampleColumns(count);
  const months = monthsOf(columns.received, NOW, 'UTC');
  const database = await duckDb(columns, months);
  const year = 365 * 86_400;
  const end = NOW.getTime() / 1000;
  const filter = (round: number): Filter => ({
    size: [20_000 + round * 500, 5e6],
    time: [end - 7 * year, end - year + round * 86_400],
    category: [0, 3, 4],
  });
  const parsed = parseCriteria('category = letters or category = mailings or category = automatic');
  const chosen = (parsed as { criteria: Criteria }).criteria;
  const context = { now: NOW, timeZone: 'UTC', outside: new Map<string, Uint8Array>() };
  const narrowed = (linked: CrossFilter, { size, time }: Filter) => {
    linked.change([
      { dimension: 'size', interval: { from: size[0], to: size[1] } },
      { dimension: 'time', interval: { from: time[0], to: time[1] } },
      { dimension: 'category', mask: criteriaToMask(chosen, columns, context) },
    ]);
  };

  const ours: number[] = [];
  const theirs: number[] = [];
  const steps: number[] = [];
  const built: number[] = [];
  for (let round = 0; round < ROUNDS; round++) {
    let linked: CrossFilter | undefined;
    built.push(await timed(() => (linked = new CrossFilter(columns, months))));
    const fresh = linked as unknown as CrossFilter;
    const asked = filter(round);
    ours.push(
      await timed(() => {
        narrowed(fresh, asked);
        tops(fresh);
      }),
    );
    theirs.push(
      await timed(async () => {
        for (const query of queries(asked)) database.query(query);
      }),
    );
    // One edge of the brush moves by a day, and by a hundredth of the range of sizes.
    for (let step = 1; step <= 20; step++)
      steps.push(
        await timed(() => {
          const interval = { from: asked.time[0] + step * 86_400, to: asked.time[1] };
          fresh.change([{ dimension: 'time', interval }]);
          tops(fresh);
        }),
      );
    if (round > 0) continue;
    const [row] = database.query(
      queries({ ...asked, time: [asked.time[0] + 20 * 86_400, asked.time[1]] })[0] as string,
    );
    const [messages, bytes] = (row ?? []).map(Number);
    if (messages !== fresh.total.messages || bytes !== fresh.total.bytes)
      throw new Error(`the two disagree: ${messages}, ${bytes} and ${JSON.stringify(fresh.total)}`);
  }
  database.close();
  return {
    messages: count,
    'build the engine, ms': rounded(median(built)),
    'three filters and all distributions, ms': rounded(median(ours)),
    'the same by DuckDB in WebAssembly, ms': rounded(median(theirs)),
    'ours / DuckDB': rounded(median(ours) / median(theirs)),
    'one edge moved, ms': rounded(median(steps)),
    'edge moved / all anew': rounded(median(steps) / median(ours)),
    'peak memory, MB': peakMemory(),
  };
}

const results = [];
for (const count of countsAsked([100_000, 1_000_000])) results.push(await measure(count));
printResults(results);
