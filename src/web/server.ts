import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import type { Duplex } from 'node:stream';
import sirv from 'sirv';
import type { Log } from '../log/log';
import { clientAddress, type trustedProxies } from './client-address';
import { securityHeaders } from './headers';

/** What the framework gives to be called for a request; `next` where it has no answer. */
export type Handler = (
  request: IncomingMessage,
  response: ServerResponse,
  next: (error?: unknown) => void,
  locals: App.Locals,
) => unknown;

const METHODS: ReadonlySet<string> = new Set(['GET', 'HEAD', 'POST', 'PATCH', 'DELETE']);
/** Headers that only a proxy's word makes true: whoever reads them would believe anybody. */
const NOT_BELIEVED = ['x-forwarded-for', 'x-forwarded-host', 'x-forwarded-proto', 'x-forwarded-port', 'forwarded'];
/** Connections at a time. */
const MAX_CONNECTIONS = 1_000;

/**
 * The web server: built files, then the framework's pages and the API. Every answer carries the security headers, also one that
 * the framework never sees.
 *
 * @param files the folder of built files.
 */
export function webServer(
  handler: Handler,
  files: string,
  { origin, proxies, log }: { origin: string | undefined; proxies: ReturnType<typeof trustedProxies>; log: Log },
): Server {
  const headers = securityHeaders(origin);
  const file = sirv(files, {
    etag: true,
    setHeaders: (response, path) => {
      const cached = path.startsWith('/_astro/') ? 'public, max-age=31536000, immutable' : 'no-cache';
      response.setHeader('cache-control', cached);
    },
  });
  const server = createServer({ requestTimeout: 120_000, headersTimeout: 20_000, connectionsCheckingInterval: 5_000 });
  server.maxConnections = MAX_CONNECTIONS;
  server.on('request', (request, response) => {
    for (const [name, value] of Object.entries(headers)) response.setHeader(name, value);
    if (!METHODS.has(request.method ?? '')) {
      response.setHeader('allow', [...METHODS].join(', '));
      return refuse(response, 405, 'method-not-allowed', 'Method not allowed', 'This method is not used here.');
    }
    const isDirect = ![...NOT_BELIEVED, 'via'].some((name) => name in request.headers);
    const locals = { clientAddress: clientAddress(request, proxies), isDirect };
    for (const name of NOT_BELIEVED) delete request.headers[name];
    const failed = (error?: unknown) => {
      // The framework leaves a listener on the connection of what it knows nothing of, so that ends.
      response.setHeader('connection', 'close');
      if (!error) return refuse(response, 404, 'not-found', 'Not found', 'There is nothing here.');
      log.error({ err: error }, 'a request failed');
      refuse(response, 500, 'internal', 'Something went wrong', 'Something went wrong in Tamsel. Nothing was lost.');
    };
    const framework = () => {
      // What it throws instead of handing on would end the process.
      void (async () => handler(request, response, failed, locals))().catch(failed);
    };
    if (request.method === 'GET' || request.method === 'HEAD') file(request, response, framework);
    else framework();
  });
  server.on('clientError', (_: Error, socket: Duplex) => malformed(socket, headers));
  return server;
}

/** An answer that is a problem (RFC 9457), before anything of the framework. */
function refuse(response: ServerResponse, status: number, type: string, title: string, detail: string): void {
  if (response.headersSent) {
    response.destroy();
    return;
  }
  response.writeHead(status, { 'content-type': 'application/problem+json' });
  response.end(JSON.stringify({ type: `/problems/${type}`, title, status, detail }));
}

/** What is no request of HTTP gets an answer all the same. */
function malformed(socket: Duplex, headers: Readonly<Record<string, string>>): void {
  if (!socket.writable) {
    socket.destroy();
    return;
  }
  const lines = Object.entries(headers).map(([name, value]) => `${name}: ${value}\r\n`);
  socket.end(`HTTP/1.1 400 Bad Request\r\nconnection: close\r\ncontent-length: 0\r\n${lines.join('')}\r\n`);
}
