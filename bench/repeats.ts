import { execFileSync } from 'node:child_process';
import { join } from 'node:path';
import { type CandidateColumns, candidateGroups } from '../src/core/repeats/candidates';
import { type FileColumns, fileCandidates, octetsAtMost } from '../src/core/repeats/file-candidates';
import { Random } from '../stand-in/message/random';
import { own } from '../test/big-folder';
import { DOVECOT_PASSWORD, DOVECOT_USER, startDovecot } from '../test/dovecot';
import { DuckDb } from '../test/duckdb';
import { App, cleanUp, ROOT, temporaryFolder } from '../test/harness';
import { Bare } from './bare';
import { countsAsked, median, peakMemory, printResults, rounded, timed } from './measure';

/**
 * Repeats: finding what may exist more than once in columns, beside DuckDB in WebAssembly, which groups the same keys in the same
 * process; and reading it for proof, beside a bare FETCH of the same messages over one connection to the same Dovecot. Prints JSON and
 * tables.
 */
const ROUNDS = 5;
const PAIRS = 5_000;

/** Messages of which one in ten has a copy. */
function made(count: number): CandidateColumns {
  const random = new Random(7);
  const columns = { high: new Int32Array(count), low: new Int32Array(count), size: new Float64Array(count) };
  for (let row = 0; row < count; row++) {
    const copied = row > 0 && random.next() < 0.1 ? random.below(row) : undefined;
    columns.high[row] = copied === undefined ? random.below(2 ** 32) | 0 : (columns.high[copied] as number);
    columns.low[row] = copied === undefined ? random.below(2 ** 32) | 0 : (columns.low[copied] as number);
    columns.size[row] = copied === undefined ? 1_000 + random.below(200_000) : (columns.size[copied] as number);
  }
  return columns;
}

async function candidates(count: number) {
  const columns = made(count);
  const database = await DuckDb.open();
  database.insert('mail', { high: columns.high, low: columns.low, size: columns.size });
  const query = 'select count(*), sum(n) from (select count(*) as n from mail group by high, low having count(*) > 1)';
  const ours: number[] = [];
  const theirs: number[] = [];
  for (let round = 0; round < ROUNDS; round++) {
    let groups = 0;
    let rows = 0;
    ours.push(
      await timed(() => {
        const found = candidateGroups(columns);
        [groups, rows] = [found.starts.length - 1, found.rows.length];
      }),
    );
    theirs.push(
      await timed(() => {
        const [[theirGroups, theirRows] = []] = database.query(query);
        if (Number(theirGroups) !== groups || Number(theirRows) !== rows)
          throw new Error(`the two disagree: ${theirGroups}, ${theirRows} and ${groups}, ${rows}`);
      }),
    );
  }
  database.close();
  return {
    messages: count,
    'candidates, ms': rounded(median(ours)),
    'GROUP BY of the same keys by DuckDB, ms': rounded(median(theirs)),
    'ours / DuckDB': rounded(median(ours) / median(theirs)),
    'peak memory, MB': peakMemory(),
  };
}

/** Files of which one in ten was mailed again, every third of these in lines of another length. */
function madeFiles(count: number): FileColumns {
  const random = new Random(11);
  const columns = {
    kind: new Int32Array(count),
    size: new Float64Array(count),
    isBase64: new Int32Array(count).fill(1),
    name: new Int32Array(count),
  };
  for (let row = 0; row < count; row++) {
    const copied = row > 0 && random.next() < 0.1 ? random.below(row) : undefined;
    columns.kind[row] = copied === undefined ? random.below(9) : (columns.kind[copied] as number);
    columns.name[row] = copied === undefined ? random.below(2 ** 32) | 0 : (columns.name[copied] as number);
    columns.size[row] = copied === undefined ? 65_536 + random.below(8_000_000) : (columns.size[copied] as number);
  }
  return columns;
}

async function files(count: number) {
  const columns = madeFiles(count);
  const database = await DuckDb.open();
  const octets = Int32Array.from(columns.size, (size) => octetsAtMost(size));
  database.insert('file', { kind: columns.kind, octets, name: columns.name });
  const ours: number[] = [];
  const theirs: number[] = [];
  for (let round = 0; round < ROUNDS; round++) {
    ours.push(
      await timed(() => {
        fileCandidates(columns);
      }),
    );
    theirs.push(
      await timed(() => {
        for (const keys of ['kind, octets', 'kind, name, octets'])
          database.query(`select count(*) from (select ${keys} from file group by ${keys} having count(*) > 1)`);
      }),
    );
  }
  database.close();
  return {
    files: count,
    'candidates, ms': rounded(median(ours)),
    'two GROUP BYs by DuckDB, ms': rounded(median(theirs)),
    'ours / DuckDB': rounded(median(ours) / median(theirs)),
  };
}

/** Files that were mailed again, read for proof, beside a bare FETCH of the same parts. */
async function proofOfFiles() {
  const dovecot = await startDovecot(20_000);
  const script = join(ROOT, 'test/integration/make_threads.py');
  execFileSync('/usr/bin/python3', [script, dovecot.maildir, '0', temporaryFolder(), '400'], { maxBuffer: 2 ** 28 });
  own(dovecot);
  const app = await App.start();
  const account = await app.signIn({ port: dovecot.plainPort, user: DOVECOT_USER, password: DOVECOT_PASSWORD });
  await app.scanned(account);
  const { unread } = (await app.call('GET', `${account}/repeats`)).body;
  const bare = await Bare.open(dovecot);
  const ours: number[] = [];
  const theirs: number[] = [];
  let read = 0;
  for (let round = 0; round < ROUNDS; round++) {
    theirs.push(
      await timed(async () => {
        await bare.command('SELECT INBOX');
        await bare.command('UID FETCH 1:* (BODY.PEEK[2])');
      }),
    );
    await app.database.query('delete from file_digest');
    ours.push(
      await timed(async () => {
        await app.call('POST', `${account}/repeats/compare`, { what: 'files' });
        while ((await app.database.query('select state from proof')).rows[0].state !== 'done')
          await new Promise((resolve) => setTimeout(resolve, 20));
      }),
    );
    read = Number((await app.database.query('select done_bytes from proof')).rows[0].done_bytes);
  }
  await cleanUp();
  return {
    files: unread.files.files,
    'octets that candidates hold': unread.files.bytes,
    'octets read / held': rounded(read / unread.files.bytes),
    'proof, ms': rounded(median(ours)),
    'bare FETCH of the same parts, ms': rounded(median(theirs)),
    'ours / bare': rounded(median(ours) / median(theirs)),
  };
}

async function proof() {
  const dovecot = await startDovecot(20_000);
  const script = join(ROOT, 'test/integration/make_repeats.py');
  execFileSync('/usr/bin/python3', [script, dovecot.maildir, `${PAIRS}`, `${PAIRS}`], { maxBuffer: 2 ** 28 });
  own(dovecot);
  const app = await App.start();
  const account = await app.signIn({ port: dovecot.plainPort, user: DOVECOT_USER, password: DOVECOT_PASSWORD });
  await app.scanned(account);
  const repeats = async () => (await app.call('GET', `${account}/repeats`)).body;
  const held = (await repeats()).candidates;
  const bare = await Bare.open(dovecot);
  const ours: number[] = [];
  const theirs: number[] = [];
  let read = 0;
  for (let round = 0; round < ROUNDS; round++) {
    theirs.push(
      await timed(async () => {
        for (const folder of ['INBOX', 'INBOX.Old']) {
          await bare.command(`SELECT ${folder}`);
          await bare.command('UID FETCH 1:* (BODY.PEEK[])');
        }
      }),
    );
    await app.database.query('delete from twin_digest');
    ours.push(
      await timed(async () => {
        await app.call('POST', `${account}/repeats/compare`, {});
        while ((await app.database.query('select state from proof')).rows[0].state !== 'done')
          await new Promise((resolve) => setTimeout(resolve, 20));
      }),
    );
    read = Number((await app.database.query('select done_bytes from proof')).rows[0].done_bytes);
  }
  await cleanUp();
  return {
    messages: held.messages,
    'octets that candidates hold': held.bytes,
    'octets read / held': rounded(read / held.bytes),
    'proof, ms': rounded(median(ours)),
    'bare FETCH of the same, ms': rounded(median(theirs)),
    'ours / bare': rounded(median(ours) / median(theirs)),
  };
}

const results = [];
for (const count of countsAsked([100_000, 1_000_000])) results.push(await candidates(count));
printResults(results);
const ofFiles = [];
for (const count of countsAsked([100_000, 1_000_000])) ofFiles.push(await files(count));
printResults(ofFiles);
printResults([await proof()]);
printResults([await proofOfFiles()]);
process.exit();
