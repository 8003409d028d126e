import { createHash } from 'node:crypto';
import type { DavClient } from '../../dav/client';
import { download } from '../../dav/transfer';
import type { Account } from '../../store/access/accounts';
import type { FileDigest, FileToRead } from '../../store/index/repeated-files';
import { type SpaceFileToRead, saveSpaceDigest, type ToRead, unreadDoubled } from '../../store/space/doubled';
import type { WorkContext } from '../context';
import { filesReading } from './files';
import type { Kind } from './reading';
import { eachSpaceFile, readOrLeave } from './space-files';

/** Reads files of messages and of file spaces that may be the same, the largest first. */
export function spacesReading(context: WorkContext, account: Account): Kind<FileToRead, FileDigest> {
  const { database } = context;
  let others: number[] = [];
  return {
    ...filesReading(database, account),
    async wanted(budget) {
      const { mail, space } = await unreadDoubled(database, account);
      const together = [
        ...mail.map((one) => ({ ...one, isMail: true })),
        ...space.map((one) => ({ ...one, isMail: false })),
      ];
      const read = within(together, budget);
      const [own, there] = [read.filter(({ isMail }) => isMail), read.filter(({ isMail }) => !isMail)];
      others = there.map(({ id }) => id);
      return {
        ids: own.map(({ id }) => id),
        bytes: sumOf(own),
        elsewhere: { files: others.length, bytes: sumOf(there) },
      };
    },
    elsewhere: (keep) =>
      eachSpaceFile(context, account, others, async (client, file) => {
        const sha256 = await hashOf(client, file);
        return keep(file.bytes, (db) => saveSpaceDigest(db, account.id, file.id, sha256));
      }),
  };
}

/** As many as fit, the largest first. */
function within<T extends ToRead>(files: readonly T[], budget: number): T[] {
  const taken: T[] = [];
  let left = budget;
  for (const file of [...files].sort((a, b) => b.bytes - a.bytes || a.id - b.id)) {
    if (file.bytes > left) continue;
    left -= file.bytes;
    taken.push(file);
  }
  return taken;
}

function sumOf(files: readonly ToRead[]): number {
  return files.reduce((sum, { bytes }) => sum + bytes, 0);
}

/** SHA-256 (FIPS 180-4) of a file; null where it can't be read as it was listed. */
export async function hashOf(client: DavClient, { path, bytes }: SpaceFileToRead): Promise<Buffer | null> {
  const hash = createHash('sha256');
  const isRead = await readOrLeave(async () => {
    for await (const piece of download(client, path, bytes)) hash.update(piece);
  });
  return isRead ? hash.digest() : null;
}
