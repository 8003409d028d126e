import { dirname, join } from 'node:path';
import { pathToFileURL } from 'node:url';
import { openLog } from '../log/log';
import { trustedProxies } from './client-address';
import { type Handler, webServer } from './server';

const dist = join(dirname(process.argv[1] as string), '..');
const { handler } = (await import(pathToFileURL(join(dist, 'server/entry.mjs')).href)) as { handler: Handler };
const server = webServer(handler, join(dist, 'client'), {
  origin: process.env.TAMSEL_ORIGIN || undefined,
  proxies: trustedProxies(process.env.TAMSEL_TRUSTED_PROXY),
  log: openLog('web'),
});
/** What is being answered when this process is asked to end has so long; pages that watch come back by themselves. */
const PATIENCE_MS = 3_000;

for (const signal of ['SIGTERM', 'SIGINT'] as const)
  process.once(signal, () => {
    server.close(() => process.exit(0));
    server.closeIdleConnections();
    setTimeout(() => process.exit(0), PATIENCE_MS).unref();
  });

server.listen(Number(process.env.TAMSEL_PORT ?? 4321), process.env.TAMSEL_HOST ?? '127.0.0.1');
