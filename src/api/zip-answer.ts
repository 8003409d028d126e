import { Readable } from 'node:stream';
import { between, sizeOfZip, type ZippedFile, zipped } from '../archive/zip';
import { byteRange } from './byte-range';

/**
 * Answers with a ZIP archive of files, or with the octets of it that were asked for: a download that broke off goes on.
 *
 * @param name of the archive, without its ending.
 * @param mark what the archive is of: an archive of other files has another.
 */
export function zipAnswer(request: Request, files: readonly ZippedFile[], name: string, mark: string): Response {
  const size = sizeOfZip(files);
  const etag = `"${mark}-${size}"`;
  const range = byteRange(request, size, etag);
  const { first, last } = range ?? { first: 0, last: size - 1 };
  const body = Readable.toWeb(Readable.from(between(zipped(files), first, last), { objectMode: false }));
  return new Response(body as unknown as BodyInit, {
    status: range ? 206 : 200,
    headers: {
      'content-type': 'application/zip',
      'content-length': `${last - first + 1}`,
      'content-disposition': `attachment; filename="${name}.zip"`,
      'accept-ranges': 'bytes',
      'cache-control': 'private, no-transform',
      etag,
      ...(range ? { 'content-range': `bytes ${first}-${last}/${size}` } : {}),
    },
  });
}
