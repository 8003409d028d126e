import * as s from '../../contract/schemas';
import { readRestarts } from '../../log/restarts';
import { workload } from '../../store/jobs';
import { instanceFigures } from '../../store/metrics';
import { workerLives } from '../../store/workers';
import { mayWatch, metricsText } from '../metrics';
import { notFound, Problem } from '../problem';
import { route } from '../route';

const WORKER_SECONDS = 15;

export const getHealth = route({
  method: 'GET',
  path: '/health',
  summary:
    'Says whether the database answers and a worker has reported within 15 seconds, and which programs had to be started again.',
  response: s.Health,
  async handle({ environment }) {
    const { database } = environment;
    const lives = await workerLives(database, WORKER_SECONDS).catch(() => undefined);
    if (lives)
      return {
        status: 'ok' as const,
        work: await workload(database),
        restarts: readRestarts(environment.restartsFile),
      };
    throw new Problem(
      503,
      'unavailable',
      'Not available',
      lives === undefined ? 'The database does not answer.' : 'No worker is running.',
    );
  },
});

export const getMetrics = route({
  method: 'GET',
  path: '/metrics',
  anonymous: true,
  formats: ['application/openmetrics-text', 'text/plain'],
  summary:
    'Returns figures of the instance as text: OpenMetrics 1.0 if it is accepted, else the Prometheus format. Only this machine may ask, or whoever has TAMSEL_METRICS_TOKEN.',
  async handle(context) {
    if (!mayWatch(context)) throw notFound();
    const figures = await instanceFigures(context.environment.database, WORKER_SECONDS);
    const { text, type } = await metricsText(figures, context.request.headers.get('accept') ?? '');
    return new Response(text, { headers: { 'content-type': type, 'cache-control': 'no-store' } });
  },
});
