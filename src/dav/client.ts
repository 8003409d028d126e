import {
  type ClientRequest,
  type IncomingHttpHeaders,
  type IncomingMessage,
  Agent as PlainAgent,
  request,
} from 'node:http';
import { Agent, request as requestTls } from 'node:https';
import { isIP } from 'node:net';
import { pipeline } from 'node:stream/promises';
import { checkedAddress, isLoopback } from '../mail/destination';
import { isAdmitted } from '../mail/only-servers';
import { type OutboundConfig, trustOf } from '../mail/outbound-config';
import { MailProblem } from '../mail/problem';
import { Authorization, type SpaceCredential } from './authorization';
import { SpaceProblem } from './problem';

/** Connections of one client at most. */
const CONNECTIONS = 6;
/** How long a server may say nothing, in milliseconds. */
const SILENCE_MS = 60_000;
/** Requests for one: the first, one that is signed, and one after a signature that was too old. */
const TRIES = 3;
/** Octets of the body of a refusal that are read, so that the connection can be used again. */
const MOST_REFUSAL = 64 * 1024;

export interface DavRequest {
  headers?: Readonly<Record<string, string>> | undefined;
  /** A text, or octets of which it is known how many they are; they are made anew where they have to be sent again. */
  body?: string | { bytes: number; octets(): AsyncIterable<Uint8Array> } | undefined;
}

export interface DavAnswer {
  status: number;
  headers: IncomingHttpHeaders;
  /** Has to be read, or destroyed. */
  body: IncomingMessage;
}

/** Whoever does the asking under a lease. */
export interface Watch {
  /** Before something is asked. Throws where nothing may be asked any more. */
  asking(): void;
  /** When something was answered. */
  answered(): void;
}

/** Speaks to the server of a file space, over connections to the address that was checked. Redirects are not followed. */
export class DavClient {
  private constructor(
    /** `https://files.example:8443` */
    readonly origin: URL,
    private readonly address: string,
    private readonly agent: Agent | PlainAgent,
    private readonly authorization: Authorization,
    private readonly trust: { ca?: string[] },
    private readonly watch: Watch | undefined,
  ) {}

  /** @throws MailProblem or SpaceProblem where it may not be reached. */
  static async open(
    place: URL,
    credential: SpaceCredential,
    outbound: OutboundConfig,
    watch?: Watch,
  ): Promise<DavClient> {
    if (!/^https?:$/.test(place.protocol) || place.username !== '' || place.password !== '')
      throw new SpaceProblem('not-dav', 'The address of a file space begins with https://.');
    const isPlain = place.protocol === 'http:';
    const host = place.hostname.replace(/^\[|\]$/g, '');
    const port = Number(place.port) || (isPlain ? 80 : 443);
    if (!isAdmitted(host, port, outbound.only))
      throw new MailProblem('server-not-allowed', `${host} is none of the servers that this instance may use.`);
    const address = await checkedAddress(host, port, outbound);
    if (isPlain && !isLoopback(address))
      throw new SpaceProblem('plain-text-not-allowed', 'What is not on this machine is asked by https:// only.');
    const options = { keepAlive: true, maxSockets: CONNECTIONS };
    return new DavClient(
      new URL(place.origin),
      address,
      isPlain ? new PlainAgent(options) : new Agent(options),
      new Authorization(credential),
      isPlain ? {} : trustOf(outbound),
      watch,
    );
  }

  /**
   * Asks for something, signed as the server wants it.
   *
   * @param path as `core/space/path.ts` spells it.
   * @throws SpaceProblem where the password is refused, or no answer comes; any other status is an answer.
   */
  async ask(method: string, path: string, asked: DavRequest = {}): Promise<DavAnswer> {
    for (let tries = 1; ; tries++) {
      const signature = this.authorization.header(method, path);
      this.watch?.asking();
      const answer = await this.send(method, path, asked, signature);
      this.watch?.answered();
      if (answer.status !== 401) return answer;
      await drained(answer.body);
      const field = answer.headers['www-authenticate'] ?? '';
      const goesOn = await this.authorization.asked(field, signature !== undefined);
      if (!goesOn || tries === TRIES)
        throw new SpaceProblem('password-refused', `${this.origin.host} does not take this password.`);
    }
  }

  close(): void {
    this.agent.destroy();
  }

  private send(
    method: string,
    path: string,
    { headers, body }: DavRequest,
    signature: string | undefined,
  ): Promise<DavAnswer> {
    const host = this.origin.hostname.replace(/^\[|\]$/g, '');
    const isPlain = this.origin.protocol === 'http:';
    return new Promise((resolve, reject) => {
      const sent: ClientRequest = (isPlain ? request : requestTls)(
        {
          method,
          path,
          host: this.address,
          port: this.origin.port || (isPlain ? 80 : 443),
          ...(isIP(host) ? {} : { servername: host }),
          headers: {
            ...headers,
            host: this.origin.host,
            ...(signature ? { authorization: signature } : {}),
            ...(typeof body === 'object' ? { 'content-length': `${body.bytes}` } : {}),
          },
          agent: this.agent,
          timeout: SILENCE_MS,
          ...this.trust,
        },
        (response) => {
          const { statusCode: status = 0 } = response;
          // Answered before all was sent: what would be sent next over this connection would be taken for the rest.
          if (typeof body === 'object' && !sent.writableFinished) response.once('end', () => sent.destroy());
          resolve({ status, headers: response.headers, body: response });
        },
      );
      sent.on('timeout', () => sent.destroy(new SpaceProblem('timed-out', `${host} does not answer.`)));
      sent.on('error', (error) => reject(problemOf(error, host)));
      if (typeof body !== 'object') sent.end(body);
      // Whatever ends it too early is an error of what is sent, or the server has answered already.
      else pipeline(body.octets(), sent).catch(() => undefined);
    });
  }
}

/** What went wrong on the way, for a person. */
export function problemOf(error: unknown, host: string): Error {
  if (error instanceof SpaceProblem || error instanceof MailProblem) return error;
  const { code = '' } = error as NodeJS.ErrnoException;
  if (/^(CERT_|ERR_TLS_CERT|UNABLE_TO_|DEPTH_ZERO|SELF_SIGNED)/.test(code))
    return new SpaceProblem('untrusted-certificate', `The certificate of ${host} is not trusted.`, { cause: error });
  if (/^HPE_/.test(code))
    return new SpaceProblem('unreadable-answer', `What ${host} answers is no HTTP.`, { cause: error });
  return new SpaceProblem('connection-lost', `The connection to ${host} was lost.`, { cause: error });
}

/** Reads a body to its end, so that its connection can be used again; one that is too long ends it. */
export async function drained(body: IncomingMessage): Promise<void> {
  let octets = 0;
  try {
    for await (const piece of body as AsyncIterable<Buffer>) {
      octets += piece.length;
      if (octets > MOST_REFUSAL) break;
    }
  } catch {
    // It was to be thrown away.
  }
  body.destroy();
}
