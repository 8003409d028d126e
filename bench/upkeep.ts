import { parseCriteria } from '../src/core/criteria/parse';
import { forecastOf } from '../src/jobs/forecast';
import { accountById } from '../src/store/access/accounts';
import { tryOnPast } from '../src/store/plan/standing-trial';
import { cleanUp } from '../test/harness';
import { filled } from './made-mailbox';
import { countsAsked, median, peakMemory, printResults, rounded, timed } from './measure';

/**
 * What Upkeep computes over made-up mailboxes, beside PostgreSQL's own count of every message by its place among those of its
 * author, once: a trial looks at each thirteen times in the past and once now. Prints JSON and a table.
 */
const NOW = new Date('2026-11-25T00:00:00Z');
const TURNS = 3;
const TRIALS = ['age > 1y', 'category = mailings and age > 1y', 'newest > 24', 'category = mailings and monthly > 1'];

async function measure(count: number) {
  const {
    app: { database },
    account: id,
  } = await filled(count);
  const account = await accountById(database, id);
  if (!account) throw new Error('the account is gone');
  const often = async (act: () => Promise<unknown>) => {
    const times: number[] = [];
    for (let turn = 0; turn < TURNS; turn++) times.push(await timed(act));
    return median(times);
  };
  const bare = await often(() =>
    database.query(
      `select count(*), sum(size) from (
         select p.size, row_number() over (partition by m.from_address_folded order by p.received desc, p.id desc) as place
         from placement p join message m on m.account = p.account and m.id = p.message
         where p.account = $1 and p.gone_at is null) placed where place > 24`,
      [id],
    ),
  );
  const result: Record<string, number> = { messages: count, 'one count of places by PostgreSQL, ms': rounded(bare) };
  for (const where of TRIALS) {
    const parsed = parseCriteria(where);
    if (!parsed.ok) throw new Error(where);
    let taken = 0;
    const ours = await often(async () => {
      taken = (await tryOnPast(database, account, parsed.criteria, 'trash', NOW)).now.messages;
    });
    result[`trial of ${where}, ms`] = rounded(ours);
    result[`  takes now, messages: ${where}`] = taken;
    result[`  ours / that count: ${where}`] = rounded(ours / bare);
  }
  result['forecast, ms'] = rounded(await often(() => forecastOf(database, account, NOW)));
  result['peak memory, MB'] = peakMemory();
  await cleanUp();
  return result;
}

const results = [];
for (const count of countsAsked([100_000, 1_000_000])) results.push(await measure(count));
printResults(results);
process.exit();
