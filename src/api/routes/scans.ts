import * as s from '../../contract/schemas';
import { transaction } from '../../store/database';
import { lastScan, openScan, scanById } from '../../store/index/scans';
import { enqueue } from '../../store/jobs';
import { waitsOf } from '../job-waits';
import { notFound } from '../problem';
import { takeAttempt } from '../rate-limit';
import { route } from '../route';
import { shownScan } from '../shown';

export const startScan = route({
  method: 'POST',
  path: '/accounts/{account}/scans',
  summary: 'Starts a scan, or returns the one that is running.',
  status: 202,
  response: s.Scan,
  also: { 200: { description: 'The scan that is running already.', response: s.Scan } },
  async handle({ environment, account }) {
    await takeAttempt(environment.database, [
      { name: `scan of ${account.id}`, most: environment.limits.scansAnHour, seconds: 3_600 },
    ]);
    const { scan, isNew } = await transaction(environment.database, async (client) => {
      const opened = await openScan(client, account.id);
      await enqueue(client, account.id, 'scan', opened.scan.id);
      return opened;
    });
    return new Response(JSON.stringify(shownScan(scan)), {
      status: isNew ? 202 : 200,
      headers: { 'content-type': 'application/json' },
    });
  },
});

export const getScan = route({
  method: 'GET',
  path: '/accounts/{account}/scans/{scan}',
  summary: 'Returns a scan and its progress. `last` is the newest one.',
  response: s.Scan,
  async handle({ environment, account, parameters }) {
    const { database } = environment;
    const scan =
      parameters.scan === 'last'
        ? await lastScan(database, account.id)
        : await scanById(database, account.id, Number(parameters.scan));
    if (!scan) throw notFound();
    return { ...shownScan(scan), ...(await waitsOf(database, account.id, 'scan', scan)) };
  },
});
