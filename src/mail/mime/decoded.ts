import { Readable } from 'node:stream';
import { Decoder as Base64Decoder } from 'libbase64';
import { Decoder as QuotedPrintableDecoder } from 'libqp';

/**
 * Octets without their transfer encoding (RFC 2045 §6), as they come. What is not of the alphabet of base64 is passed by
 * (§6.8); octets of an encoding that nobody knows stay as they are.
 *
 * @param encoding lower case.
 */
export async function* decoded(octets: AsyncIterable<Uint8Array>, encoding: string): AsyncGenerator<Uint8Array> {
  if (encoding !== 'base64' && encoding !== 'quoted-printable') return yield* octets;
  const decoder = encoding === 'base64' ? new Base64Decoder() : new QuotedPrintableDecoder();
  const source = Readable.from(octets, { objectMode: false });
  source.on('error', (error) => decoder.destroy(error));
  try {
    yield* source.pipe(decoder) as AsyncIterable<Uint8Array>;
  } finally {
    source.destroy();
  }
}
