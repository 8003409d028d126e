import { randomBytes } from 'node:crypto';
import { type AddressInfo, createServer, type Server, type Socket } from 'node:net';
import { join } from 'node:path';
import { createSecureContext, createServer as createTlsServer, type TLSSocket } from 'node:tls';
import { certificates } from './certificates';
import { type Faults, noFaults } from './faults';
import { Connection } from './imap/connection';
import type { Host } from './imap/session';
import { Line } from './imap/wire';
import { Journal } from './mailbox/journal';
import { Mailbox } from './mailbox/mailbox';
import type { HostedMailbox } from './scenario/host';
import type { Scenario } from './scenario/mailbox';

export interface StandInOptions {
  scenario: Scenario;
  user: string;
  password: string;
  /** Who may sign in for others: for those of the mailboxes that they are let into, or of all that are not closed. */
  operators?: readonly { user: string; password: string; opens?: readonly string[] }[];
  /** Mailboxes of others. */
  hosted?: readonly HostedMailbox[];
  /** Of each of these. */
  hostedMessageLimit?: number;
  /** Whose tokens are taken. */
  authorization?: Host['authorization'];
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
  readonly line = new Line();
  readonly signedIn: Host['signedIn'] = new Set();
  readonly secureContext;
  readonly salt = randomBytes(16);
  private readonly sockets = new Set<Socket>();
  /** Mailboxes of others by their names, each made when somebody asks for it. */
  private readonly hosted: ReadonlyMap<string, HostedMailbox & { mailbox?: Mailbox; journal?: Journal }>;

  private constructor(
    private readonly options: StandInOptions,
    readonly mailbox: Mailbox,
    private readonly journal: Journal,
    private readonly servers: { tls: Server; plain: Server },
    /** PEM of the authority that clients must trust. */
    readonly authority: string,
    /** PEM of what the host shows of itself. */
    readonly identity: { key: string; cert: string },
  ) {
    this.secureContext = createSecureContext(identity);
    this.hosted = new Map((options.hosted ?? []).map((each) => [each.user, { ...each }]));
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

  get authorization(): Host['authorization'] {
    return this.options.authorization;
  }

  get tlsPort(): number {
    return (this.servers.tls.address() as AddressInfo).port;
  }

  get plainPort(): number {
    return (this.servers.plain.address() as AddressInfo).port;
  }

  passwordOf(user: string): string | undefined {
    if (this.isUser(user)) return this.options.password;
    return this.operator(user)?.password ?? this.hosted.get(user)?.password;
  }

  signIn(user: string, password: string, authorization: string): Mailbox | undefined {
    if (this.faults.refuseSignIn || password !== this.passwordOf(user)) return undefined;
    const wanted = authorization || user;
    // Nobody but the operator acts for others.
    if (wanted !== user && !this.opens(user, wanted)) return undefined;
    return this.mailboxOf(wanted);
  }

  private operator(user: string) {
    return this.options.operators?.find((each) => each.user === user);
  }

  private opens(user: string, wanted: string): boolean {
    const operator = this.operator(user);
    if (!operator) return false;
    return operator.opens?.includes(wanted) ?? !this.hosted.get(wanted)?.closed;
  }

  mailboxOf(user: string): Mailbox | undefined {
    if (this.isUser(user)) return this.mailbox;
    const hosted = this.hosted.get(user);
    if (hosted && !hosted.mailbox) {
      const { directory, hostedMessageLimit } = this.options;
      hosted.journal = new Journal(directory && join(directory, 'hosted', user));
      hosted.mailbox = new Mailbox(hosted.scenario, hosted.journal, undefined, hostedMessageLimit);
    }
    return hosted?.mailbox;
  }

  private isUser(name: string): boolean {
    const { user } = this.options;
    return name === user || (this.faults.anyCase && name.toLowerCase() === user.toLowerCase());
  }

  /** Says goodbye to those who signed in with a token, at their next command, as if it had run out. */
  endTokens(): void {
    for (const session of this.signedIn) if (session.endsAt < Infinity) session.endsAt = 0;
  }

  /** Closes every connection that is open, as a host that restarts does. */
  dropAll(): void {
    for (const socket of this.sockets) socket.destroy();
  }

  async stop(): Promise<void> {
    this.dropAll();
    await Promise.all(Object.values(this.servers).map((server) => new Promise((resolve) => server.close(resolve))));
    this.journal.close();
    for (const { journal } of this.hosted.values()) journal?.close();
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
