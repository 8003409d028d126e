import { createServer, type Server } from 'node:https';
import type { AddressInfo } from 'node:net';

/** Where senders of the demo are asked to stop, on this machine. */
export const LEAVING_PORT = 4_943;

/** How senders take it: `mail` and `page` offer no click; the last ones answer as badly as some do. */
export const LEAVING_KINDS = ['ok', 'ok', 'ok', 'mail', 'ok', 'page', 'slow', 'fails', 'elsewhere', 'cookie'] as const;
export type LeavingKind = (typeof LEAVING_KINDS)[number];

const SLOW_MS = 3_000;
const MAX_OCTETS = 4_096;

/** The web servers of the demo's senders: `POST /leave/{kind}/{host}/{token}` (RFC 8058 §3.2), and a page for who opens it. */
export class LeavingServer {
  /** Hosts whose senders have heard it. */
  readonly left = new Set<string>();

  private constructor(private readonly server: Server) {}

  static async start(identity: { key: string; cert: string }, port = 0): Promise<LeavingServer> {
    const server = createServer(identity, async (request, response) => {
      let body = '';
      for await (const part of request) {
        body += part;
        if (body.length > MAX_OCTETS) return request.destroy();
      }
      const [, kind, host = ''] = /^\/leave\/(\w+)\/([\w.-]+)\//.exec(request.url ?? '') ?? [];
      if (request.method === 'GET') return response.end('Press the button to leave this list.\n');
      const isAsked = request.method === 'POST' && body === 'List-Unsubscribe=One-Click';
      if (!isAsked || kind === undefined) return response.writeHead(400).end();
      switch (kind as LeavingKind) {
        case 'fails':
          return response.writeHead(500).end();
        case 'elsewhere':
          return response.writeHead(302, { location: 'https://another.example/' }).end();
        case 'cookie':
          return response.writeHead(403, { 'set-cookie': 'seen=1' }).end();
        case 'slow':
          leaving.left.add(host);
          return setTimeout(() => response.writeHead(200).end(), SLOW_MS);
        default:
          leaving.left.add(host);
          return response.writeHead(200).end();
      }
    });
    const leaving = new LeavingServer(server);
    await new Promise<void>((resolve, reject) => {
      server.once('error', reject);
      server.listen(port, '127.0.0.1', resolve);
    });
    return leaving;
  }

  get port(): number {
    return (this.server.address() as AddressInfo).port;
  }

  stop(): Promise<void> {
    this.server.closeAllConnections();
    return new Promise((resolve) => this.server.close(() => resolve()));
  }
}
