import * as v from 'valibot';
import { workload } from '../../store/jobs';
import { workerLives } from '../../store/workers';
import { Problem } from '../problem';
import { route } from '../route';

const WORKER_SECONDS = 15;

export const getHealth = route({
  method: 'GET',
  path: '/health',
  summary: 'Says whether the database answers and a worker has reported within 15 seconds.',
  response: v.object({
    status: v.literal('ok'),
    /** Jobs that are done now, that wait although they are due, and for how many seconds the oldest of these. */
    work: v.object({ running: v.number(), waiting: v.number(), longest: v.number() }),
  }),
  async handle({ environment }) {
    const { database } = environment;
    const lives = await workerLives(database, WORKER_SECONDS).catch(() => undefined);
    if (lives) return { status: 'ok' as const, work: await workload(database) };
    throw new Problem(
      503,
      'unavailable',
      'Not available',
      lives === undefined ? 'The database does not answer.' : 'No worker is running.',
    );
  },
});
