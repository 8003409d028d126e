import { request as requestPlain } from 'node:http';
import { request } from 'node:https';
import { isIP } from 'node:net';
import { checkedAddress, isLoopback } from './destination';
import { type OutboundConfig, trustOf } from './outbound-config';

/** Answers that are longer, or take longer, are none. */
const MAX_OCTETS = 64 * 1024;
const PATIENCE_MS = 5_000;

export interface WebRequest {
  method?: string | undefined;
  headers?: Record<string, string> | undefined;
  body?: string | undefined;
  /** How long it may take, in milliseconds. */
  patienceMs?: number | undefined;
  /** Whether only the status is wanted: what comes after it is not read. */
  statusOnly?: boolean | undefined;
}

/**
 * Asks a web server, by HTTPS or, on this machine alone, without, over a connection to the address that was checked,
 * whatever its name says a moment later. Redirects are not followed.
 *
 * @throws Error where there is no answer of bounded length in bounded time; MailProblem where it may not be reached.
 */
export async function askWeb(url: URL, asked: WebRequest, outbound: OutboundConfig): Promise<Response> {
  if (!/^https?:$/.test(url.protocol) || url.username !== '' || url.password !== '') throw new Error('no place to ask');
  const host = url.hostname.replace(/^\[|\]$/g, '');
  const isPlain = url.protocol === 'http:';
  const address = await checkedAddress(host, Number(url.port) || (isPlain ? 80 : 443), outbound);
  if (isPlain && !isLoopback(address)) throw new Error('what is not on this machine is asked by HTTPS only');
  const { method = 'GET', headers, body, patienceMs = PATIENCE_MS, statusOnly = false } = asked;
  return new Promise((resolve, reject) => {
    const sent = (isPlain ? requestPlain : request)(
      url,
      {
        method,
        hostname: address,
        ...(isIP(host) ? {} : { servername: host }),
        headers: { ...headers, host: url.host },
        agent: false,
        signal: AbortSignal.timeout(patienceMs),
        ...(isPlain ? {} : trustOf(outbound)),
      },
      (response) => {
        const { statusCode = 0, headers: received } = response;
        if (statusCode < 200 || statusCode > 599) {
          response.destroy();
          return reject(new Error(`status ${statusCode}`));
        }
        if (statusOnly) {
          response.destroy();
          return resolve(new Response(null, { status: statusCode }));
        }
        let text = '';
        response.setEncoding('utf8');
        response.on('data', (part: string) => {
          text += part;
          if (text.length > MAX_OCTETS) response.destroy(new Error('too long'));
        });
        response.on('end', () => {
          const isEmpty = statusCode === 204 || statusCode === 304;
          const pairs = Object.entries(received).map(([name, value]): [string, string] => [name, `${value}`]);
          resolve(new Response(isEmpty ? null : text, { status: statusCode, headers: pairs }));
        });
        response.on('error', reject);
      },
    );
    sent.on('error', reject);
    sent.end(body);
  });
}
