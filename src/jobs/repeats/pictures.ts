import { createHash } from 'node:crypto';
import { occasionsOf, type PictureRows } from '../../core/repeats/picture-series';
import { readingOf } from '../../core/repeats/reading';
import { download } from '../../dav/transfer';
import type { Account } from '../../store/access/accounts';
import { type PictureLook, pictureCandidates, saveLooks } from '../../store/index/pictures';
import { type FileDigest, type FileToRead, placesOfFiles, saveFileDigests } from '../../store/index/repeated-files';
import { saveSpaceLook, spacePictureCandidates } from '../../store/space/pictures';
import type { WorkContext } from '../context';
import { digestOf, partOf } from './files';
import { type Kind, pagesOf } from './reading';
import { eachSpaceFile, readOrLeave } from './space-files';

/** Pictures that are looked up at a time. */
const PAGE = 500;
/** Octets of a picture that is decoded. */
const MOST_LOOKED_AT = 48 * 2 ** 20;

const NOT_SEEN = { hash: null, sharpness: null, width: null, height: null };

/** Pictures that have others of their occasion beside them and were not looked at, as many as fit. */
function unlooked(candidates: PictureRows & { size: Float64Array; looked: Int32Array }, budget: number) {
  const { file, size, looked } = candidates;
  const rows = Int32Array.from(file, (_, row) => row);
  const { messages, bytes } = readingOf(occasionsOf(candidates), { message: rows, size, twin: looked }, budget);
  return { ids: messages.map((row) => file[row] as number), bytes };
}

interface Seen {
  digest: FileDigest;
  look: PictureLook;
}

/** Reads pictures that have others of their author and occasion beside them, and how they look. */
export function picturesReading(context: WorkContext, account: Account): Kind<FileToRead, Seen> {
  const { database, renderer } = context;
  let others: number[] = [];
  const lookAt = async (file: number, pieces: readonly Uint8Array[]): Promise<PictureLook> => {
    const look: PictureLook = { file, ...NOT_SEEN };
    if (pieces.length === 0) return look;
    const made = await renderer.make({ make: 'look', octets: Buffer.concat(pieces) });
    if (made.kind !== 'look') return look;
    const { kind: _, ...seen } = made;
    return { ...look, ...seen };
  };
  return {
    async wanted(budget) {
      const found = unlooked(await pictureCandidates(database, account), budget);
      const there = unlooked(await spacePictureCandidates(database, account.id), budget - found.bytes);
      others = there.ids;
      return { ...found, elsewhere: { files: others.length, bytes: there.bytes } };
    },
    elsewhere: (keep) =>
      eachSpaceFile(context, account, others, async (client, { id, path, bytes }) => {
        const hash = createHash('sha256');
        const pieces: Uint8Array[] = [];
        const isRead = await readOrLeave(async () => {
          for await (const piece of download(client, path, bytes)) {
            hash.update(piece);
            if (bytes <= MOST_LOOKED_AT) pieces.push(piece);
          }
        });
        const look = await lookAt(id, isRead ? pieces : []);
        const sha256 = isRead ? hash.digest() : null;
        return keep(bytes, (db) => saveSpaceLook(db, account.id, look, sha256));
      }),
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
      const look = await lookAt(file, digest.sha256 && held <= MOST_LOOKED_AT ? pieces : []);
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
