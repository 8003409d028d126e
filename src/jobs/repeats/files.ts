import { createHash } from 'node:crypto';
import { readingOf } from '../../core/repeats/reading';
import { decoded } from '../../mail/mime/decoded';
import type { Account } from '../../store/access/accounts';
import type { Database } from '../../store/database';
import {
  type FileDigest,
  type FileToRead,
  placesOfFiles,
  repeatedFileCandidates,
  saveFileDigests,
} from '../../store/index/repeated-files';
import { type Kind, pagesOf, readWhole } from './reading';

/** Files that are looked up at a time. */
const PAGE = 2_000;
const CRLF = 2;

/** Reads files that may be the same, each part by itself. */
export function filesReading(database: Database, account: Account): Kind<FileToRead, FileDigest> {
  return {
    async wanted(budget) {
      const { groups, file, size, digest } = await repeatedFileCandidates(database, account);
      const rows = Int32Array.from(file, (_, row) => row);
      const { messages, bytes } = readingOf(groups, { message: rows, size, twin: digest }, budget);
      return { ids: messages.map((row) => file[row] as number), bytes };
    },
    pages: (ids) => pagesOf(ids, PAGE),
    places: (ids) => placesOfFiles(database, account.id, ids),
    sectionOf: partOf,
    async read(place, octets) {
      const digest = await digestOf(place, octets);
      return digest && { file: place.file, ...digest };
    },
    save: (db, found) => saveFileDigests(db, account.id, found),
  };
}

/** The part of a file; one octet more shows that it is longer than was said. */
export function partOf({ uid, part, size }: FileToRead) {
  return { uid, section: part, expected: size, most: size + 1 };
}

/**
 * SHA-256 (FIPS 180-4) of the decoded octets of a file, and how many they are; nulls where it can't be read, undefined where it has gone.
 *
 * @param see is given the decoded octets.
 */
export async function digestOf(
  { encoding, type, size }: FileToRead,
  octets: AsyncIterable<Buffer>,
  see: (piece: Uint8Array) => void = () => undefined,
): Promise<Omit<FileDigest, 'file'> | undefined> {
  const hash = createHash('sha256');
  let length = 0;
  // Some servers count the line end behind an enclosed message too (RFC 2046 §5.1.1).
  const isAsLong = (came: number) => came === size || (type.startsWith('message/') && came + CRLF === size);
  const came = await readWhole(octets, isAsLong, async (pieces) => {
    for await (const piece of decoded(pieces, encoding)) {
      hash.update(piece);
      length += piece.length;
      see(piece);
    }
  });
  if (came === undefined) return undefined;
  return came ? { sha256: hash.digest(), size: length } : { sha256: null, size: null };
}
