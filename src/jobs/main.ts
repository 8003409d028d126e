import { randomUUID } from 'node:crypto';
import { ArchivePlace } from '../archive/place';
import { openLog } from '../log/log';
import { outboundConfigFrom } from '../mail/outbound-config';
import { submissionFrom } from '../mail/submission';
import { Renderer, renderProgram } from '../render/renderer';
import { Vault } from '../store/access/vault';
import { openDatabase } from '../store/database';
import { MAX_MESSAGES, PER_HOST } from './limits';
import { Worker } from './worker';

/** A worker as a process. Any number of them may run. */
const {
  TAMSEL_DATABASE_URL,
  TAMSEL_KEY_FILE,
  TAMSEL_LEASE_SECONDS,
  TAMSEL_MAX_MESSAGES,
  TAMSEL_MAX_MEASURED_PER_HOST,
} = process.env;
if (!TAMSEL_DATABASE_URL || !TAMSEL_KEY_FILE)
  throw new Error('The variables TAMSEL_DATABASE_URL and TAMSEL_KEY_FILE are missing.');

const database = openDatabase(TAMSEL_DATABASE_URL, 16);
const worker = new Worker({
  database,
  vault: Vault.open(TAMSEL_KEY_FILE),
  outbound: outboundConfigFrom(process.env),
  submission: submissionFrom(process.env),
  archive: ArchivePlace.from(process.env),
  renderer: new Renderer(renderProgram()),
  log: openLog('worker'),
  worker: randomUUID(),
  leaseSeconds: Number(TAMSEL_LEASE_SECONDS || 6),
  mostMessages: Number(TAMSEL_MAX_MESSAGES || MAX_MESSAGES),
  measuredPerHost: Number(TAMSEL_MAX_MEASURED_PER_HOST || PER_HOST),
});

for (const signal of ['SIGTERM', 'SIGINT'] as const) {
  process.on(signal, () => {
    void worker.stop();
    // A batch under way is recovered by whoever takes the lease next.
    setTimeout(() => process.exit(0), 1_500).unref();
  });
}

await worker.run();
await database.end();
process.exit(0);
