import type { Socket } from 'node:net';
import type { Readable, Writable } from 'node:stream';
import { ImapFlow, type ImapFlowOptions } from 'imapflow';
import { specialUse } from 'imapflow/lib/special-use.js';
import { MailProblem } from '../../problem';
import type { Octets } from '../wire/octets';

/** The version that this file was written for: it uses members that the library promises to nobody. */
export const LIBRARY_VERSION = '1.7.8';

/** The longest line and literal that the library takes while it has the connection. */
const MAX_LINE = 1024 * 1024;
const MAX_RESPONSE = 2 * MAX_LINE;

/** A connection is made, encrypted and signed in to within this time, however lively the server is. */
const SIGN_IN_MS = 60_000;

/** An argument of a command as the library compiles it. */
export interface Argument {
  type: 'ATOM' | 'STRING';
  value: string;
  sensitive?: boolean;
}

/** The members of the client that its types leave out. */
interface Insides {
  state: number;
  states: { NOT_AUTHENTICATED: number };
  authenticated: unknown;
  idRequested: Record<string, string> | false;
  expectCapabilityUpdate: boolean;
  namespace?: { prefix?: string };
  socket: Socket | false;
  /** What inflates the octets of the socket, where COMPRESS is on. */
  _inflate?: Readable | null;
  streamer: Writable;
  writeSocket: Writable | false;
  authenticate(): Promise<void>;
  setAuthenticationState(): Promise<void>;
  compress(): Promise<void>;
  write(line: string): void;
  exec(
    command: string,
    attributes: Argument[],
    options?: { onPlusTag(answer: { attributes?: { type: string; value: string }[] }): Promise<void> },
  ): Promise<{ next(): void }>;
}

/** What has to be there before a client connects, and of which type. */
const CONTRACT: Record<string, string> = {
  state: 'number',
  states: 'object',
  capabilities: 'object',
  enabled: 'object',
  idRequested: 'boolean',
  expectCapabilityUpdate: 'boolean',
  socket: 'boolean',
  writeSocket: 'boolean',
  streamer: 'object',
  authenticate: 'function',
  setAuthenticationState: 'function',
  compress: 'function',
  write: 'function',
  exec: 'function',
};

/** The members that are missing from a client, or are something else than they were. */
export function brokenContract(client: ImapFlow): string[] {
  const members = client as unknown as Record<string, unknown>;
  return Object.keys(CONTRACT).filter((name) => typeof members[name] !== CONTRACT[name]);
}

/** How somebody signs in, over the library's commands. */
export type SignIn = (session: SigningIn) => Promise<void>;

/** A connection that nobody has signed in on. */
export interface SigningIn {
  /** As they were last told, upper case. */
  capabilities: ReadonlySet<string>;
  /** Sends a command and waits for its end; each continuation request is given to `respond`. */
  command(name: string, args: Argument[], respond?: (challenge: string) => Promise<string>): Promise<void>;
}

/**
 * The one place that knows the general client library. It connects, encrypts, and signs in; all other commands
 * go over its octets by a channel of ours, since it answers a command with nothing where it could not read the answer.
 */
export class Library {
  private readonly swallowed: unknown[] = [];
  private readonly client: ImapFlow;

  private constructor(options: ImapFlowOptions) {
    this.client = new ImapFlow({
      ...options,
      // Nothing of the library that we use (RFC 2971 lets a client say as little as it likes).
      clientInfo: { name: 'Tamsel', version: '', vendor: '', 'support-url': '' },
      disableAutoIdle: true,
      disableCompression: true,
      // Names of folders change with UTF8=ACCEPT and with IMAP4rev2: we enable what we use, and neither of them.
      disableAutoEnable: true,
      disableIMAP4rev2: true,
      maxLineLength: MAX_LINE,
      maxLiteralSize: MAX_LINE,
      maxResponseSize: MAX_RESPONSE,
      logger: this.listener(),
      connectionTimeout: 15_000,
      greetingTimeout: 10_000,
      // Commands have deadlines of their own; a large folder may take minutes to open.
      socketTimeout: 1_800_000,
    });
    const broken = brokenContract(this.client);
    if (broken.length > 0) throw new Error(`The client library changed: ${broken.join(', ')}.`);
    // Without a listener an error of the idle socket would end the process; the next command reports it.
    this.client.on('error', () => undefined);
  }

  /** Connects and signs in. Throws what the library throws, or what `signIn` does. */
  static async connect(options: ImapFlowOptions, user: string, signIn: SignIn): Promise<Library> {
    const library = new Library({ ...options, auth: { user } });
    const { client } = library;
    library.insides.authenticate = () => library.authenticate(user, signIn);
    let timer: NodeJS.Timeout | undefined;
    const late = new Promise<never>((_, reject) => {
      timer = setTimeout(() => reject(Object.assign(new Error('too slow'), { code: 'CONNECT_TIMEOUT' })), SIGN_IN_MS);
    });
    try {
      const connecting = client.connect();
      connecting.catch(() => undefined);
      await Promise.race([connecting, late]);
      library.raiseSwallowed();
      // What ends a literal goes by itself, and would be held back until the literal is acknowledged (RFC 1122 §4.2.3.4).
      if (library.insides.socket) library.insides.socket.setNoDelay();
    } catch (error) {
      client.close();
      throw error;
    } finally {
      clearTimeout(timer);
    }
    return library;
  }

  private get insides(): Insides {
    return this.client as unknown as Insides;
  }

  /** The library tells its log, and nobody else, of a response that one of its handlers could not deal with. */
  private listener() {
    const hear = ({ err, msg }: { err?: unknown; msg?: unknown }): void => {
      if (err && /untagged|response|parse/i.test(String(msg ?? err))) this.swallowed.push(err);
    };
    const ignore = () => undefined;
    return { trace: ignore, debug: ignore, info: ignore, warn: hear, error: hear, fatal: hear };
  }

  private raiseSwallowed(): void {
    const [error] = this.swallowed.splice(0);
    if (error === undefined) return;
    throw new MailProblem('unreadable-answer', 'Tamsel could not read the server’s answer.', { cause: error });
  }

  private async authenticate(user: string, signIn: SignIn): Promise<void> {
    const { client, insides } = this;
    // A server may know who we are already (PREAUTH).
    if (insides.state !== insides.states.NOT_AUTHENTICATED) return;
    insides.expectCapabilityUpdate = true;
    await signIn({ capabilities: this.capabilities, command: (...said) => this.command(...said) });
    client.authenticated = user;
    // Who we are was said before (RFC 2971); the library would say it again to servers that say little of themselves.
    insides.idRequested = { said: 'once', before: 'signing in' };
    await insides.setAuthenticationState();
  }

  private async command(
    name: string,
    args: Argument[],
    respond?: (challenge: string) => Promise<string>,
  ): Promise<void> {
    if (!respond) {
      (await this.insides.exec(name, args)).next();
      return;
    }
    let failure: unknown;
    try {
      const answer = await this.insides.exec(name, args, {
        onPlusTag: async ({ attributes }) => {
          const challenge = attributes?.[0]?.type === 'TEXT' ? attributes[0].value : '';
          try {
            this.insides.write(await respond(challenge));
          } catch (error) {
            failure = error;
            // RFC 9051 §6.2.2: a star takes the exchange back.
            this.insides.write('*');
          }
        },
      });
      answer.next();
    } catch (error) {
      throw failure ?? error;
    }
    if (failure) throw failure;
  }

  /** What the server offers, as it writes it but in upper case. */
  get capabilities(): ReadonlySet<string> {
    return new Set([...this.client.capabilities.keys()].map((name) => name.toUpperCase()));
  }

  /** The prefix of the personal namespace (RFC 2342), as the server writes it; '' where there is none. */
  get personalPrefix(): string {
    return this.insides.namespace?.prefix ?? '';
  }

  get isUsable(): boolean {
    return this.client.usable;
  }

  /** The octets of the connection. The library parses them, unless they are taken from it. */
  get octets(): Octets | undefined {
    const { socket, _inflate, streamer, writeSocket } = this.insides;
    return socket && writeSocket ? { source: _inflate ?? socket, parser: streamer, sink: writeSocket } : undefined;
  }

  onClose(hear: () => void): () => void {
    this.client.on('close', hear);
    return () => this.client.off('close', hear);
  }

  /** COMPRESS=DEFLATE (RFC 4978); one that is refused is left as it is. */
  async compress(): Promise<void> {
    await this.insides.compress();
    this.raiseSwallowed();
  }

  close(): void {
    this.client.close();
  }
}

/** What a folder's name tells that it is for, as an attribute of RFC 6154, in any of many languages. */
export function specialUseOfName(name: string): string | undefined {
  return specialUse(false, { name, flags: new Set() }).flag ?? undefined;
}
