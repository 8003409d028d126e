import { promises } from 'node:dns';
import { dkimVerify } from 'mailauth/lib/dkim/verify.js';
import { coveredNames, type Signature } from '../core/unsubscribe/authenticity';
import type { OutboundConfig } from './outbound-config';

/** A name is asked for so long and so often. */
const PATIENCE = { timeout: 2_000, tries: 2 };
/** A message with more signatures is not looked at: each asks for a key. */
const MAX_SIGNATURES = 8;
/** RFC 8301 §3.2: shorter keys are not to be believed. */
const MIN_BITS = 1_024;

/**
 * Verifies the signatures of a message (RFC 6376, RFC 8463). One that leaves out the end of the body, or is by SHA-1 (RFC 8301
 * §3.1), says nothing.
 *
 * @param octets all of the message.
 * @returns undefined where it has more signatures than are looked at.
 */
export async function signaturesOf(
  octets: Buffer,
  { dns }: Pick<OutboundConfig, 'dns'>,
): Promise<Signature[] | undefined> {
  const end = octets.indexOf('\r\n\r\n');
  const header = octets.subarray(0, end < 0 ? octets.length : end).toString('latin1');
  if ((header.match(/^dkim-signature[ \t]*:/gim) ?? []).length > MAX_SIGNATURES) return undefined;
  const resolver = new promises.Resolver(PATIENCE);
  if (dns) resolver.setServers(dns);
  const { results } = await dkimVerify(octets, {
    minBitLength: MIN_BITS,
    resolver: (name, type) => (type === 'TXT' ? resolver.resolveTxt(name) : Promise.reject(new Error(`no ${type}`))),
  });
  return results.map(({ signingDomain, algo, signingHeaders, status, canonBodyLengthLimited }) => {
    const isWhole = !canonBodyLengthLimited && /-sha256$/i.test(algo ?? '');
    const result =
      status.result === 'pass' ? (isWhole ? 'pass' : 'unknown') : status.result === 'fail' ? 'fail' : 'unknown';
    return { domain: signingDomain, result, covers: coveredNames(signingHeaders.keys) };
  });
}
