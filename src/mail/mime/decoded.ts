import { Readable } from 'node:stream';
import { Decoder as QuotedPrintableDecoder } from 'libqp';
import { Base64Decoder } from './base64';

/**
 * Octets without their transfer encoding (RFC 2045 §6), as they come. Octets of an encoding that nobody knows stay as they are.
 *
 * @param encoding lower case.
 */
export async function* decoded(octets: AsyncIterable<Uint8Array>, encoding: string): AsyncGenerator<Uint8Array> {
  if (encoding === 'base64') yield* fromBase64(octets);
  else if (encoding === 'quoted-printable') yield* fromQuotedPrintable(octets);
  else yield* octets;
}

async function* fromBase64(octets: AsyncIterable<Uint8Array>): AsyncGenerator<Uint8Array> {
  const decoder = new Base64Decoder();
  for await (const piece of octets) yield decoder.push(asBuffer(piece));
  yield decoder.end();
}

function asBuffer(octets: Uint8Array): Buffer {
  return Buffer.isBuffer(octets) ? octets : Buffer.from(octets.buffer, octets.byteOffset, octets.byteLength);
}

async function* fromQuotedPrintable(octets: AsyncIterable<Uint8Array>): AsyncGenerator<Uint8Array> {
  const decoder = new QuotedPrintableDecoder();
  const source = Readable.from(octets, { objectMode: false });
  source.on('error', (error) => decoder.destroy(error));
  try {
    yield* source.pipe(decoder) as AsyncIterable<Uint8Array>;
  } finally {
    source.destroy();
  }
}
