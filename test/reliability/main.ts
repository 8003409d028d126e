import { parseArgs } from 'node:util';
import { App, cleanUp, SHORT_LEASE } from '../harness';
import { archiveTrial } from './archive-trial';
import { fileTrial } from './file-trial';
import { pictureTrial } from './picture-trial';
import { stripTrial } from './strip-trial';
import { trial } from './trial';
import { uploadTrial } from './upload-trial';

/**
 * Many randomised runs with faults: `npm run reliability -- --trials 200 --seed 1`. `--seed` is that of the first trial,
 * each further one counts up; a failing seed is replayed with `--trials 1 --seed` and its number.
 */
const { values } = parseArgs({
  options: {
    trials: { type: 'string', default: '100' },
    seed: { type: 'string', default: `${Date.now() % 1_000_000}` },
    'no-strikes': { type: 'boolean', default: false },
    'go-on': { type: 'boolean', default: false },
    /** Takes files out instead of moving and purging. */
    strip: { type: 'boolean', default: false },
    /** Takes files out that a file space has too. */
    spaces: { type: 'boolean', default: false },
    /** Moves and deletes files of a file space. */
    files: { type: 'boolean', default: false },
    /** Makes pictures of a file space smaller. */
    pictures: { type: 'boolean', default: false },
    /** Puts files of messages into a file space. */
    uploads: { type: 'boolean', default: false },
    /** Archives, purges and puts back. */
    archive: { type: 'boolean', default: false },
  },
});

const OTHERS: Record<string, typeof fileTrial> = {
  strip: stripTrial,
  spaces: (app, seed) => stripTrial(app, seed, 'space'),
  files: fileTrial,
  pictures: pictureTrial,
  uploads: uploadTrial,
  archive: archiveTrial,
};
const chosen = Object.keys(OTHERS).find((name) => values[name as keyof typeof values]);
const one =
  (chosen && OTHERS[chosen]) || ((app: App, seed: number) => trial(app, { seed, strikes: !values['no-strikes'] }));

const sums = {
  trials: 0,
  runs: 0,
  messages: 0,
  failed: [] as number[],
  strikes: {} as Record<string, number>,
  outcomes: {} as Record<string, number>,
  acts: 0,
  late: 0,
};
const add = (into: Record<string, number>, from: Record<string, number>) => {
  for (const [key, count] of Object.entries(from)) into[key] = (into[key] ?? 0) + count;
};

try {
  // Each trial is a mailbox of its own.
  const app = await App.start({ env: { TAMSEL_MAX_NEW_ACCOUNTS_PER_DAY: '100000', ...SHORT_LEASE } });
  for (let index = 0; index < Number(values.trials); index++) {
    const seed = Number(values.seed) + index;
    try {
      const report = await one(app, seed);
      sums.runs += report.runs;
      sums.messages += report.messages;
      sums.acts += report.acts;
      sums.late += report.late;
      add(sums.strikes, report.strikes);
      add(sums.outcomes, report.left);
    } catch (error) {
      sums.failed.push(seed);
      process.stdout.write(`${(error as Error).message}\n${(error as Error).stack}\n`);
      if (!values['go-on']) break;
      await app.restarted();
    }
    sums.trials++;
    process.stdout.write(`${seed} ${JSON.stringify(sums)}\n`);
  }
} finally {
  await cleanUp();
}
process.exit(sums.failed.length > 0 ? 1 : 0);
