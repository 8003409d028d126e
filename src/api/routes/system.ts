import * as v from 'valibot';
import { workerLives } from '../../store/workers';
import { Problem } from '../problem';
import { route } from '../route';

const WORKER_SECONDS = 15;

export const health = route({
  method: 'GET',
  path: '/health',
  summary: 'Whether the database answers and a worker was heard of within 15 seconds.',
  response: v.object({ status: v.literal('ok') }),
  async handle({ environment }) {
    const lives = await workerLives(environment.database, WORKER_SECONDS).catch(() => undefined);
    if (lives) return { status: 'ok' };
    throw new Problem(
      503,
      'unavailable',
      'Not available',
      lives === undefined ? 'The database does not answer.' : 'No worker was heard of.',
    );
  },
});
