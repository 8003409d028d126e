import { connect as connectPlain, type Socket } from 'node:net';
import { connect as connectTls } from 'node:tls';
import { checkedAddress, isLoopback } from '../destination';
import { isAdmitted } from '../only-servers';
import { type OutboundConfig, trustOf } from '../outbound-config';
import { MailProblem } from '../problem';
import { passwordMechanism, tokenMechanism } from '../sasl/mechanism';
import type { Credential } from '../server';
import { type Answer, AnswerReader } from './wire';

/** The port of ManageSieve (RFC 5804 §1.8). */
export const SIEVE_PORT = 4_190;

const PATIENCE_MS = 20_000;

/** Where a user's scripts are. `none` on this machine alone. */
export interface SieveServer {
  host: string;
  port: number;
  security: 'starttls' | 'none';
}

/** Scripts of a user on a server (RFC 5804). Every method may throw a MailProblem; `command-refused` says what the server said. */
export class ManageSieve {
  private constructor(
    private readonly socket: Socket,
    private readonly reader: AnswerReader,
    private readonly host: string,
    private readonly port: number,
    private capabilities: ReadonlyMap<string, string>,
  ) {}

  /** Connects, secures the connection, and signs in. */
  static async connect(
    server: SieveServer,
    user: string,
    credential: Credential,
    outbound: OutboundConfig,
  ): Promise<ManageSieve> {
    const { host, port, security } = server;
    if (!isAdmitted(host, port, outbound.only))
      throw new MailProblem('server-not-allowed', `${host} is none of the servers that this installation may use.`);
    const address = await checkedAddress(host, port, outbound);
    if (security === 'none' && !isLoopback(address))
      throw new MailProblem('plain-text-not-allowed', `${host} is not on this machine, so it has to be used with TLS.`);
    const socket = connectPlain({ host: address, port });
    let client = new ManageSieve(socket, new AnswerReader(socket, host, PATIENCE_MS), host, port, new Map());
    try {
      client.capabilities = capabilitiesOf(await client.reader.answer());
      if (security === 'starttls') client = await client.secured(outbound);
      await client.signIn(user, credential);
      return client;
    } catch (error) {
      client.socket.destroy();
      throw error;
    }
  }

  /** Extensions of Sieve that the server runs. */
  get extensions(): string[] {
    return (this.capabilities.get('SIEVE') ?? '').toLowerCase().split(/\s+/).filter(Boolean);
  }

  /** The name of the server's program (RFC 5804 §1.7). */
  get implementation(): string {
    return this.capabilities.get('IMPLEMENTATION') ?? '';
  }

  /** Names of the scripts, and whether each is the active one. */
  async scripts(): Promise<{ name: string; active: boolean }[]> {
    const { lines } = await this.command('LISTSCRIPTS');
    return lines.flatMap(([name, mark]) =>
      name && 'string' in name
        ? [{ name: name.string, active: mark !== undefined && 'atom' in mark && /^active$/i.test(mark.atom) }]
        : [],
    );
  }

  async script(name: string): Promise<string> {
    const { lines } = await this.command(`GETSCRIPT ${literal(name)}`);
    const first = lines[0]?.[0];
    if (!first || !('string' in first)) throw this.reader.unreadable('no script');
    return first.string;
  }

  /** Has the server look at a script without keeping it (RFC 5804 §2.12). */
  async check(script: string): Promise<void> {
    await this.command(`CHECKSCRIPT ${literal(script)}`);
  }

  async put(name: string, script: string): Promise<void> {
    await this.command(`PUTSCRIPT ${literal(name)} ${literal(script)}`);
  }

  /** Makes a script the active one; '' makes none. */
  async activate(name: string): Promise<void> {
    await this.command(`SETACTIVE ${literal(name)}`);
  }

  async remove(name: string): Promise<void> {
    await this.command(`DELETESCRIPT ${literal(name)}`);
  }

  async close(): Promise<void> {
    await this.send('LOGOUT').catch(() => undefined);
    this.socket.destroy();
  }

  private async secured(outbound: OutboundConfig): Promise<ManageSieve> {
    if (!this.capabilities.has('STARTTLS'))
      throw new MailProblem('no-tls', `${this.host} offers no encryption for ManageSieve.`);
    await this.command('STARTTLS');
    if (!this.reader.isEmpty) throw this.reader.unreadable('more than was asked before TLS');
    this.socket.removeAllListeners('data').removeAllListeners('error').removeAllListeners('close');
    const socket = await new Promise<Socket>((resolve, reject) => {
      const secure = connectTls({ socket: this.socket, servername: this.host, ...trustOf(outbound) }, () =>
        resolve(secure),
      );
      secure.once('error', (cause) =>
        reject(new MailProblem('untrusted-certificate', `The certificate of ${this.host} is not trusted.`, { cause })),
      );
    });
    const reader = new AnswerReader(socket, this.host, PATIENCE_MS);
    // RFC 5804 §2.2: capabilities are told anew, and those before are forgotten.
    return new ManageSieve(socket, reader, this.host, this.port, capabilitiesOf(await reader.answer()));
  }

  private async signIn(user: string, credential: Credential): Promise<void> {
    const offered = (this.capabilities.get('SASL') ?? '').toUpperCase().split(/\s+/);
    const offers = (name: string) => offered.includes(name);
    const mechanism =
      'token' in credential
        ? tokenMechanism(offers, { user, token: credential.token, host: this.host, port: this.port })
        : passwordMechanism(offers, { user, ...credential }, this.host);
    if (!mechanism)
      throw new MailProblem('no-mechanism', `${this.host} offers no way to sign in for rules that Tamsel knows.`);
    const respond = async (challenge: string) =>
      literal(
        Buffer.from(await mechanism.respond(Buffer.from(challenge, 'base64').toString('utf8'))).toString('base64'),
      );
    this.socket.write(`AUTHENTICATE "${mechanism.name}" ${await respond('')}\r\n`);
    const answer = await this.reader.answer(async (challenge) => {
      this.socket.write(`${await respond(challenge)}\r\n`);
    });
    if (answer.status === 'OK') {
      // What a mechanism says last comes along with the word that it went well (RFC 5804 §2.1).
      const last = /^SASL\s+"([^"]*)"$/i.exec(answer.code)?.[1];
      if (last) await respond(last);
      mechanism.end();
    }
    if (answer.status !== 'OK')
      throw new MailProblem(
        'token' in credential ? 'token-refused' : 'password-refused',
        `${this.host} refused the sign-in for rules: ${answer.text}`,
      );
    const told = capabilitiesOf(answer);
    if (told.size > 0) this.capabilities = told;
  }

  private async command(words: string): Promise<Answer> {
    const answer = await this.send(words);
    if (answer.status !== 'OK')
      throw new MailProblem('command-refused', answer.text || `${this.host} refused ${words.split(' ')[0]}.`);
    return answer;
  }

  private async send(words: string): Promise<Answer> {
    this.socket.write(`${words}\r\n`);
    return this.reader.answer();
  }
}

/** A literal that is sent at once (RFC 5804 §1.2). */
function literal(text: string): string {
  return `{${Buffer.byteLength(text)}+}\r\n${text}`;
}

function capabilitiesOf({ lines }: Answer): Map<string, string> {
  const found = new Map<string, string>();
  for (const [name, value] of lines)
    if (name && 'string' in name) found.set(name.string.toUpperCase(), value && 'string' in value ? value.string : '');
  return found;
}
