import { connect as connectPlain, type Socket } from 'node:net';
import { connect as connectTls } from 'node:tls';
import { checkedAddress } from '../destination';
import { type OutboundConfig, trustOf } from '../outbound-config';

const PATIENCE_MS = 4_000;
const MAX_ANSWER_OCTETS = 8 * 1024;

/** What a protocol says at first, and how STARTTLS is found in it. */
interface Protocol {
  greeting: RegExp;
  /** What has the server tell what it can do. */
  hello: string;
  startTls: RegExp;
}

const IMAP: Protocol = {
  greeting: /^\* OK[^\n]*\n/i,
  hello: 'a CAPABILITY\r\n',
  startTls: /^\* (CAPABILITY|OK \[CAPABILITY)[^\n]* STARTTLS\b/im,
};

/** Of servers that take mail (RFC 6409). */
const SUBMISSION: Protocol = {
  greeting: /^220[ -][^\n]*\n/,
  hello: 'EHLO localhost\r\n',
  startTls: /^250[ -]STARTTLS\b/im,
};

interface Place {
  host: string;
  port: number;
  security: 'tls' | 'starttls';
}

/** Whether an IMAP server greets there, with a certificate that is trusted, or with STARTTLS on offer. Nothing is signed in to. */
export function answersImap(place: Place, outbound: OutboundConfig): Promise<boolean> {
  return answers(place, outbound, IMAP);
}

/** The same of a server that takes mail. */
export function answersSubmission(place: Place, outbound: OutboundConfig): Promise<boolean> {
  return answers(place, outbound, SUBMISSION);
}

async function answers(
  { host, port, security }: Place,
  outbound: OutboundConfig,
  { greeting, hello, startTls }: Protocol,
): Promise<boolean> {
  let socket: Socket | undefined;
  try {
    const address = await checkedAddress(host, port, outbound);
    socket =
      security === 'tls'
        ? connectTls({ host: address, port, servername: host, ...trustOf(outbound) })
        : connectPlain({ host: address, port });
    if (security === 'tls') return await says(socket, (text) => greeting.test(text));
    socket.write(hello);
    return await says(socket, (text) => greeting.test(text) && startTls.test(text));
  } catch {
    return false;
  } finally {
    socket?.destroy();
  }
}

/** Whether what comes fits, in bounded time and length. */
function says(socket: Socket, fits: (text: string) => boolean): Promise<boolean> {
  return new Promise((resolve) => {
    let text = '';
    const timer = setTimeout(() => resolve(false), PATIENCE_MS);
    const end = (is: boolean) => {
      clearTimeout(timer);
      resolve(is);
    };
    socket.on('data', (octets: Buffer) => {
      text += octets.toString('latin1');
      if (fits(text)) end(true);
      else if (text.length > MAX_ANSWER_OCTETS) end(false);
    });
    socket.on('error', () => end(false)).on('close', () => end(false));
  });
}
