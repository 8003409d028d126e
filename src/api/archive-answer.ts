import { Readable } from 'node:stream';
import { sizeOfTar, type TarredFile, tarred } from '../archive/tar';
import { between, sizeOfZip, type ZippedFile, zipped } from '../archive/zip';
import { byteRange } from './byte-range';

/** What is packed, and what it is called. */
interface Packed {
  type: string;
  /** With its ending. */
  name: string;
  size: number;
  /** What it is of: a packing of other files has another. */
  mark: string;
  /** The octets from one to another, both included. */
  octets(first: number, last: number): AsyncGenerator<Uint8Array>;
}

/** Answers with a ZIP archive of files. @param name of the archive, without its ending. */
export function zipAnswer(request: Request, files: readonly ZippedFile[], name: string, mark: string): Response {
  return packedAnswer(request, {
    ...{ type: 'application/zip', name: `${name}.zip`, size: sizeOfZip(files), mark },
    octets: (first, last) => between(zipped(files), first, last),
  });
}

/** Answers with a tar archive of files. @param name of the archive, without its ending. */
export function tarAnswer(request: Request, files: readonly TarredFile[], name: string, mark: string): Response {
  return packedAnswer(request, {
    ...{ type: 'application/x-tar', name: `${name}.tar`, size: sizeOfTar(files), mark },
    octets: (first, last) => tarred(files, first, last),
  });
}

/** Answers with all of it, or with the octets that were asked for: a download that broke off goes on. */
function packedAnswer(request: Request, { type, name, size, mark, octets }: Packed): Response {
  const etag = `"${mark}-${size}"`;
  const range = byteRange(request, size, etag);
  const { first, last } = range ?? { first: 0, last: size - 1 };
  const body = Readable.toWeb(Readable.from(octets(first, last), { objectMode: false }));
  return new Response(body as unknown as BodyInit, {
    status: range ? 206 : 200,
    headers: {
      'content-type': type,
      'content-length': `${last - first + 1}`,
      'content-disposition': `attachment; filename="${name}"`,
      'accept-ranges': 'bytes',
      'cache-control': 'private, no-transform',
      etag,
      ...(range ? { 'content-range': `bytes ${first}-${last}/${size}` } : {}),
    },
  });
}
