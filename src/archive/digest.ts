import { createHash, webcrypto } from 'node:crypto';

/** Octets that are held in memory as a whole: then a thread of the platform's pool hashes them. */
export const SMALL = 8 * 2 ** 20;

/** SHA-256 of octets that are all there, in hexadecimal; by a thread of the platform's pool. */
export async function digestOf(octets: Uint8Array): Promise<string> {
  return Buffer.from(await webcrypto.subtle.digest('SHA-256', octets)).toString('hex');
}

/** SHA-256 of octets as they come, in hexadecimal. */
export async function hashOf(octets: AsyncIterable<Uint8Array>): Promise<string> {
  const held: Uint8Array[] = [];
  let size = 0;
  const source = octets[Symbol.asyncIterator]();
  for (let next = await source.next(); !next.done; next = await source.next()) {
    held.push(next.value);
    size += next.value.length;
    if (size > SMALL) return hashedAsTheyCome(held, source);
  }
  return digestOf(Buffer.concat(held));
}

async function hashedAsTheyCome(held: readonly Uint8Array[], rest: AsyncIterator<Uint8Array>): Promise<string> {
  const hash = createHash('sha256');
  for (const piece of held) hash.update(piece);
  for (let next = await rest.next(); !next.done; next = await rest.next()) hash.update(next.value);
  return hash.digest('hex');
}
