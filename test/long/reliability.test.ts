import { after, test } from 'node:test';
import { App, cleanUp, SHORT_LEASE } from '../harness';
import { archiveTrial } from '../reliability/archive-trial';
import { stripTrial } from '../reliability/strip-trial';
import { trial } from '../reliability/trial';

after(cleanUp);

/** A few of what `npm run reliability` does by the hundred with seeds of its own; others by the variable. */
const TRIALS = 3;
const SEED = 7001;

test('randomised runs with faults at random points do what the model of the mailbox says', async (context) => {
  const app = await App.start({ env: SHORT_LEASE });
  const first = Number(process.env.TAMSEL_TEST_SEED ?? SEED);
  context.diagnostic(`seeds ${first} to ${first + TRIALS - 1}`);
  for (let seed = first; seed < first + TRIALS; seed++) await trial(app, { seed, strikes: true });
});

test('so do runs that take files out: no letter is ever missing, and none is there twice at the end', async () => {
  const app = await App.start({ env: SHORT_LEASE });
  const first = Number(process.env.TAMSEL_TEST_SEED ?? SEED);
  for (let seed = first; seed < first + TRIALS; seed++) await stripTrial(app, seed);
});

test('so do runs that archive, purge and put back while the disk fills: no letter is ever in neither place', async () => {
  const app = await App.start({ env: SHORT_LEASE });
  const first = Number(process.env.TAMSEL_TEST_SEED ?? SEED);
  for (let seed = first; seed < first + TRIALS; seed++) await archiveTrial(app, seed);
});
