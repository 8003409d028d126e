import { occasionsOf } from '../../core/repeats/picture-series';
import { readingOf } from '../../core/repeats/reading';
import type { Account } from '../../store/access/accounts';
import { type PictureLook, pictureCandidates, saveLooks } from '../../store/index/pictures';
import { type FileDigest, type FileToRead, placesOfFiles, saveFileDigests } from '../../store/index/repeated-files';
import type { WorkContext } from '../context';
import { digestOf, partOf } from './files';
import { type Kind, pagesOf } from './reading';

/** Pictures that are looked up at a time. */
const PAGE = 500;
/** Octets of a picture that is decoded. */
const MOST_LOOKED_AT = 48 * 2 ** 20;

interface Seen {
  digest: FileDigest;
  look: PictureLook;
}

/** Reads pictures that have others of their author and occasion beside them, and how they look. */
export function picturesReading({ database, renderer }: WorkContext, account: Account): Kind<FileToRead, Seen> {
  return {
    async wanted(budget) {
      const candidates = await pictureCandidates(database, account);
      const { file, size, looked } = candidates;
      const rows = Int32Array.from(file, (_, row) => row);
      const { messages, bytes } = readingOf(occasionsOf(candidates), { message: rows, size, twin: looked }, budget);
      return { ids: messages.map((row) => file[row] as number), bytes };
    },
    pages: (ids) => pagesOf(ids, PAGE),
    places: (ids) => placesOfFiles(database, account.id, ids),
    sectionOf: partOf,
    async read(place, octets) {
      const { file } = place;
      const pieces: Uint8Array[] = [];
      let held = 0;
      const digest = await digestOf(place, octets, (piece) => {
        held += piece.length;
        if (held <= MOST_LOOKED_AT) pieces.push(piece);
        else pieces.length = 0;
      });
      if (!digest) return undefined;
      const look: PictureLook = { file, hash: null, sharpness: null, width: null, height: null };
      if (digest.sha256 && held <= MOST_LOOKED_AT) {
        const made = await renderer.make({ make: 'look', octets: Buffer.concat(pieces) });
        if (made.kind === 'look') {
          const { kind: _, ...seen } = made;
          Object.assign(look, seen);
        }
      }
      return { digest: { file, ...digest }, look };
    },
    async save(db, found) {
      await saveFileDigests(
        db,
        account.id,
        found.map(({ digest }) => digest),
      );
      await saveLooks(
        db,
        account.id,
        found.map(({ look }) => look),
      );
    },
  };
}
