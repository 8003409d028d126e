import { spawnSync } from 'node:child_process';
import { appendFileSync } from 'node:fs';
import { join } from 'node:path';
import { parseArgs } from 'node:util';
import { fold, storable } from '../src/core/text';
import { SegmentBuilder } from '../src/core/words/segment';
import { eachToken, withoutLines } from '../src/core/words/tokens';
import { searchedText } from '../src/mail/mime/searched-text';
import { ArchiveWords, saveWords } from '../src/store/archive/archive-words';
import { cleanUp, demoScenario, freshDatabase, temporaryFolder } from '../test/harness';
import { median, peakMemory, printResults, rounded, timed } from './measure';

/**
 * Texts found in an archive of the demo's messages, beside `grep` over the same texts in one file, which the system has in
 * memory. Prints a table, and the same as JSON: milliseconds, and what the index costs on the disk.
 */
const { values } = parseArgs({
  options: {
    messages: { type: 'string', default: '100000' },
    turns: { type: 'string', default: '7' },
    /** Of messages up to this size: the large ones have no more text. */
    octets: { type: 'string', default: '100000' },
  },
});

/** A word in a third of the texts, one in few, a phrase, the most frequent phrase, a part of a word, and one that is in none. */
const WANTED = ['lease', 'wheelbarrow yet', 'signed lease', 'of the', 'arrow', 'zebra'];
const SEGMENT = 20_000;
const BLOCK = 128;

async function main(): Promise<void> {
  const { database } = await freshDatabase();
  await database.query(
    `insert into account (host, port, security, user_name) values ('mail.example', 993, 'tls', 'tern@mail.example')`,
  );
  await database.query(
    `insert into bag (account, id, label, place, folder, state, files, asked_files, asked_bytes) values (1, 1, '', 'here', 'x', 'done', '{}', 0, 0)`,
  );
  const small = demoScenario('full').messages.filter(({ item }) => item.size <= Number(values.octets));
  const count = Math.min(small.length, Number(values.messages));
  const file = join(temporaryFolder(), 'texts');
  let octets = 0;
  let builder = new SegmentBuilder();
  let texts: string[] = [];
  let first = 1;
  const reading = await timed(async () => {
    for (let at = 0; at < count; at++) {
      const raw = small[at]?.item.write() as Buffer;
      const { text } = await searchedText(async function* () {
        yield raw;
      });
      const searched = withoutLines(storable(text).split('\n').map(fold).join(' '));
      octets += Buffer.byteLength(searched);
      eachToken(searched, (token, blanks) => builder.add(token, blanks));
      builder.endText();
      texts.push(searched);
      const isLast = at === count - 1;
      if (texts.length === BLOCK || isLast) {
        appendFileSync(file, `${texts.join('\n')}\n`);
        texts = [];
      }
      if (builder.texts < SEGMENT && !isLast) continue;
      await saveWords(database, 1, 1, { first, texts: builder.texts, packed: builder.end() });
      first += builder.texts;
      builder = new SegmentBuilder();
    }
  });
  const { rows } = await database.query<{ octets: number }>(
    `select pg_total_relation_size('archived_words') as octets`,
  );
  const results = [];
  for (const wanted of WANTED) {
    const ours: number[] = [];
    const theirs: number[] = [];
    let found = 0;
    let told = 0;
    // Whoever asks first has nothing in memory.
    const words = new ArchiveWords(database);
    const cold = await timed(() => words.find(1, [wanted]));
    for (let turn = 0; turn < Number(values.turns); turn++) {
      let ranges: readonly (readonly [number, number])[] = [];
      ours.push(
        await timed(async () => {
          ranges = (await words.find(1, [wanted])).get(wanted) ?? [];
        }),
      );
      found = ranges.reduce((sum, [from, to]) => sum + to - from + 1, 0);
      theirs.push(
        await timed(() => {
          const { stdout } = spawnSync('grep', ['-c', '-F', '--', wanted, file], {
            encoding: 'utf8',
            env: { LC_ALL: 'C' },
          });
          told = Number(stdout);
        }),
      );
    }
    if (found !== told) throw new Error(`${wanted}: ${found} found, and grep says ${told}.`);
    results.push({
      wanted,
      messages: count,
      found,
      'first, ms': rounded(cold),
      'then, ms (median)': rounded(median(ours)),
      'grep, ms (median)': rounded(median(theirs)),
      'ours / grep': rounded(median(ours) / median(theirs)),
    });
  }
  printResults(results);
  printResults([
    {
      'text, MB': rounded(octets / 1e6),
      'index, MB': rounded(Number(rows[0]?.octets) / 1e6),
      'index / text': rounded(Number(rows[0]?.octets) / octets),
      'read, messages a second': rounded(count / (reading / 1000)),
      'peak memory, MB': peakMemory(),
    },
  ]);
  await cleanUp();
  process.exit();
}

await main();
