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
server.listen(Number(process.env.TAMSEL_PORT ?? 4321), process.env.TAMSEL_HOST ?? '127.0.0.1');
