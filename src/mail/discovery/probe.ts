import { connect as connectPlain, type Socket } from 'node:net';
import { connect as connectTls } from 'node:tls';
import { checkedAddress } from '../destination';
import { type OutboundConfig, trustOf } from '../outbound-config';

const PATIENCE_MS = 4_000;
const MAX_ANSWER_OCTETS = 8 * 1024;

/** Whether an IMAP server greets there, with a certificate that is trusted, or with STARTTLS on offer. Nothing is signed in to. */
export async function answersImap(
  { host, port, security }: { host: string; port: number; security: 'tls' | 'starttls' },
  outbound: OutboundConfig,
): Promise<boolean> {
  let socket: Socket | undefined;
  try {
    const address = await checkedAddress(host, port, outbound);
    socket =
      security === 'tls'
        ? connectTls({ host: address, port, servername: host, ...trustOf(outbound) })
        : connectPlain({ host: address, port });
    const isGreeted = (text: string) => /^\* OK[^\n]*\n/i.test(text);
    if (security === 'tls') return await says(socket, isGreeted);
    socket.write('a CAPABILITY\r\n');
    return await says(
      socket,
      (text) => isGreeted(text) && /^\* (CAPABILITY|OK \[CAPABILITY)[^\n]* STARTTLS\b/im.test(text),
    );
  } catch {
    return false;
  } finally {
    socket?.destroy();
  }
}

/** Whether a server that takes mail greets there, with a certificate that is trusted, or with STARTTLS on offer. */
export async function answersSubmission(
  { host, port, security }: { host: string; port: number; security: 'tls' | 'starttls' },
  outbound: OutboundConfig,
): Promise<boolean> {
  let socket: Socket | undefined;
  try {
    const address = await checkedAddress(host, port, outbound);
    socket =
      security === 'tls'
        ? connectTls({ host: address, port, servername: host, ...trustOf(outbound) })
        : connectPlain({ host: address, port });
    const isGreeted = (text: string) => /^220[ -][^\n]*\n/.test(text);
    if (security === 'tls') return await says(socket, isGreeted);
    socket.write('EHLO localhost\r\n');
    return await says(socket, (text) => isGreeted(text) && /^250[ -]STARTTLS\b/im.test(text));
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
