import { shownPath } from '../core/space/path';
import { unexplained } from '../core/space/share';
import type { Reading } from '../store/index/readings';
import { countsAgainst } from '../store/space/counting';
import type { FileAmount, FileSpace, PicturedAmount } from '../store/space/spaces';

/** A file space as the API tells it. */
export function shownSpace(space: FileSpace, reading: Pick<Reading, 'used' | 'limit'> | undefined) {
  const { id, origin, root, user, state, quotaUsed, quotaAvailable, askedAt, problem, listedAt } = space;
  const { own, pictures, shared, inTrash, folders, listingState } = space;
  return {
    ...{
      id,
      address: `${origin}${root}`,
      user,
      state,
      own,
      pictures,
      shared,
      inTrash: { files: inTrash.files, bytes: inTrash.bytes },
    },
    trash: space.trash === null ? null : shownPath(space.trash, root),
    counts: countsAgainst(space, reading),
    countsBy: space.sharesQuota === null ? ('figures' as const) : ('user' as const),
    ...(quotaUsed === null ? {} : { used: quotaUsed }),
    ...(quotaAvailable === null ? {} : { available: quotaAvailable }),
    ...(askedAt ? { askedAt } : {}),
    listing: { state: listingState, folders: { done: folders.total - folders.left, total: folders.total } },
    ...(listedAt ? { listedAt } : {}),
    ...(problem ? { problem } : {}),
  };
}

/**
 * What of the level is files; undefined where no file space is known that counts.
 *
 * @param counted octets of the messages, those in the trash too.
 * @param planned what lots of files hold that does not lie in the trash, by file space.
 */
export function filesInLevel(
  spaces: readonly FileSpace[],
  planned: ReadonlyMap<number, PicturedAmount>,
  reading: Pick<Reading, 'used' | 'limit'> | undefined,
  used: number,
  counted: number,
) {
  const counting = spaces.filter((space) => countsAgainst(space, reading));
  if (counting.every(({ own, listedAt }) => own.files === 0 && listedAt === null)) return undefined;
  const own = sumOf(counting.map((space) => space.own));
  const pictures = sumOf(counting.map((space) => space.pictures));
  const [first, ...others] = counting;
  const rest = unexplained(used, counted + own.bytes, others.length === 0 ? (first?.quotaUsed ?? null) : null);
  return {
    files: { files: own.files - pictures.files, bytes: own.bytes - pictures.bytes },
    pictures,
    shared: sumOf(counting.map(({ shared }) => shared)),
    trash: sumWithPictures(counting.map(({ inTrash }) => inTrash)),
    plan: sumWithPictures(counting.flatMap(({ id }) => planned.get(id) ?? [])),
    unexplained: rest.bytes,
    toTheOctet: rest.toTheOctet,
    complete: counting.every(({ listedAt, listingState }) => listedAt !== null && listingState === 'done'),
  };
}

function sumWithPictures(amounts: readonly PicturedAmount[]): PicturedAmount {
  return { ...sumOf(amounts), pictureBytes: amounts.reduce((sum, { pictureBytes }) => sum + pictureBytes, 0) };
}

function sumOf(amounts: readonly FileAmount[]): FileAmount {
  return amounts.reduce((sum, { files, bytes }) => ({ files: sum.files + files, bytes: sum.bytes + bytes }), {
    files: 0,
    bytes: 0,
  });
}
