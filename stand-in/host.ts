import { type AddressInfo, createServer, type Server, type Socket } from 'node:net';
import { createSecureContext, createServer as createTlsServer, type TLSSocket } from 'node:tls';
import { certificates } from './certificates';
import { type Faults, noFaults } from './faults';
import { Connection } from './imap/connection';
import type { Host } from './imap/session';
import { Journal } from './mailbox/journal';
import { Mailbox } from './mailbox/mailbox';
import type { Scenario } from './scenario/mailbox';

export interface StandInOptions {
  scenario: Scenario;
  user: string;
  password: string;
  /** Where changes and certificates are kept; undefined keeps nothing. */
  directory?: string | undefined;
  /** 0 takes a free one. */
  tlsPort?: number;
  plainPort?: number;
  limit?: number;
  messageLimit?: number;
  withEveryMessage?: boolean;
}

/** A mail host on loopback that takes a provider's place. */
export class StandIn implements Host {
  faults: Faults = noFaults();
  nextCommandAt = 0;
  readonly secureContext;
  private readonly sockets = new Set<Socket>();

  private constructor(
    private readonly options: StandInOptions,
    readonly mailbox: Mailbox,
    private readonly journal: Journal,
    private readonly servers: { tls: Server; plain: Server },
    /** PEM of the authority that clients must trust. */
    readonly authority: string,
    identity: { key: string; cert: string },
  ) {
    this.secureContext = createSecureContext(identity);
  }

  static async start(options: StandInOptions): Promise<StandIn> {
    const { authority, certificate, key } = await certificates(options.directory);
    const journal = new Journal(options.directory);
    const mailbox = new Mailbox(
      options.scenario,
      journal,
      options.limit,
      options.messageLimit,
      options.withEveryMessage,
    );
    const servers = { tls: createTlsServer({ key, cert: certificate }), plain: createServer() };
    const host = new StandIn(options, mailbox, journal, servers, authority, { key, cert: certificate });
    servers.tls.on('secureConnection', (socket: TLSSocket) => host.serve(socket, true));
    servers.plain.on('connection', (socket) => host.serve(socket, false));
    await listen(servers.tls, options.tlsPort ?? 0);
    await listen(servers.plain, options.plainPort ?? 0);
    return host;
  }

  get tlsPort(): number {
    return (this.servers.tls.address() as AddressInfo).port;
  }

  get plainPort(): number {
    return (this.servers.plain.address() as AddressInfo).port;
  }

  signIn(user: string, password: string): Mailbox | undefined {
    if (this.faults.refuseSignIn) return undefined;
    return user === this.options.user && password === this.options.password ? this.mailbox : undefined;
  }

  /** Closes every connection that is open, as a host that restarts does. */
  dropAll(): void {
    for (const socket of this.sockets) socket.destroy();
  }

  async stop(): Promise<void> {
    this.dropAll();
    await Promise.all(Object.values(this.servers).map((server) => new Promise((resolve) => server.close(resolve))));
    this.journal.close();
  }

  private serve(socket: Socket | TLSSocket, secure: boolean): void {
    this.sockets.add(socket);
    socket.on('error', () => undefined);
    socket.on('close', () => this.sockets.delete(socket));
    void new Connection(this, socket, secure).run();
  }
}

function listen(server: Server, port: number): Promise<void> {
  return new Promise((resolve, reject) => {
    server.once('error', reject);
    server.listen(port, '127.0.0.1', () => {
      server.off('error', reject);
      resolve();
    });
  });
}
