import { parseArgs } from 'node:util';
import { App, cleanUp, demoScenario, startStandIn, until } from '../test/harness';
import { timed } from './bare';
import { printResults, rounded } from './measure';

/**
 * The scan over a line of stated latency and speed, which the stand-in keeps by the clock and all connections share, beside
 * what that line itself needs for the octets that went over it; with and without COMPRESS=DEFLATE.
 */
const { values } = parseArgs({
  options: {
    size: { type: 'string', default: 'full' },
    latency: { type: 'string', default: '50' },
    speed: { type: 'string', default: '2000000' },
  },
});
const [latencyMs, bytesPerSecond] = [Number(values.latency), Number(values.speed)];

async function scanned(hide: string[]): Promise<Record<string, unknown>> {
  const host = await startStandIn({ scenario: demoScenario(values.size === 'small' ? 'small' : 'full') });
  host.faults.hide = hide;
  const app = await App.start({ env: { TAMSEL_LEASE_SECONDS: '6' } });
  host.faults.latencyMs = latencyMs;
  host.faults.bytesPerSecond = bytesPerSecond;
  const account = await app.signIn({ port: host.plainPort });
  const before = host.line.octets;
  const first = await timed(() => app.finished(`${account}/scans/last`, 600));
  const octets = host.line.octets - before;
  // The words are indexed behind the scan, in the same job.
  await until(async () => (await app.database.query('select 1 from job where done_at is null')).rows.length === 0, 120);
  const second = await timed(() => app.scanned(account, true));
  const needed = octets / bytesPerSecond;
  await app.killWorker();
  await app.killWeb();
  await host.stop();
  return {
    COMPRESS: hide.length === 0,
    'messages read': host.mailbox.messageCount(),
    'MB over the line': rounded(octets / 1e6),
    'what the line needs for them, s': rounded(needed),
    'scan with threads and categories, s': rounded(first.seconds),
    'scan / line': rounded(first.seconds / needed),
    'second scan with nothing changed, s': rounded(second.seconds),
  };
}

try {
  const plain = await scanned(['COMPRESS=DEFLATE']);
  printResults([plain, await scanned([])]);
} finally {
  await cleanUp();
}
process.exit();
