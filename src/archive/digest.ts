import { createHash, webcrypto } from 'node:crypto';

/** Octets that are held in memory as a whole: then a thread of the platform's pool hashes them. */
export const SMALL = 8 * 2 ** 20;

/** Octets that are all there, where they are few; else as they come. */
export async function fewOrComing(
  octets: AsyncIterable<Uint8Array>,
): Promise<{ all: Buffer } | { coming: AsyncIterable<Uint8Array> }> {
  const held: Uint8Array[] = [];
  let size = 0;
  const source = octets[Symbol.asyncIterator]();
  for (let next = await source.next(); !next.done; next = await source.next()) {
    held.push(next.value);
    size += next.value.length;
    if (size > SMALL) return { coming: following(held, source) };
  }
  return { all: Buffer.concat(held) };
}

/** Pieces that were held, and what follows them. */
async function* following(held: readonly Uint8Array[], rest: AsyncIterator<Uint8Array>): AsyncGenerator<Uint8Array> {
  try {
    yield* held;
    for (let next = await rest.next(); !next.done; next = await rest.next()) yield next.value;
  } finally {
    await rest.return?.();
  }
}

/** SHA-256 of octets that are all there, in hexadecimal; by a thread of the platform's pool. */
export async function digestOf(octets: Uint8Array): Promise<string> {
  return Buffer.from(await webcrypto.subtle.digest('SHA-256', octets)).toString('hex');
}

/** SHA-256 of octets as they come, in hexadecimal. */
export async function hashOf(octets: AsyncIterable<Uint8Array>): Promise<string> {
  const few = await fewOrComing(octets);
  if ('all' in few) return digestOf(few.all);
  const hash = createHash('sha256');
  for await (const piece of few.coming) hash.update(piece);
  return hash.digest('hex');
}
