import { createHash } from 'node:crypto';
import type { DavClient } from '../../dav/client';
import { SpaceProblem, type SpaceProblemKind } from '../../dav/problem';
import { download } from '../../dav/transfer';
import type { Account } from '../../store/access/accounts';
import type { FileDigest, FileToRead } from '../../store/index/repeated-files';
import {
  type SpaceFileToRead,
  saveSpaceDigest,
  spaceFilesToRead,
  type ToRead,
  unreadDoubled,
} from '../../store/space/doubled';
import { spaceById } from '../../store/space/spaces';
import type { WorkContext } from '../context';
import { openSpace } from '../space/sign-in';
import { filesReading } from './files';
import { type Kind, pagesOf } from './reading';

/** Files of file spaces that are looked up at a time. */
const PAGE = 500;
/** What concerns one file: it proves nothing, and the next listing tells what became of it. */
const OF_ONE = new Set<SpaceProblemKind>([
  'gone',
  'changed',
  'forbidden',
  'locked',
  'command-refused',
  'unreadable-answer',
]);

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
    async elsewhere(keep) {
      const clients = new Map<number, DavClient>();
      try {
        for (const page of pagesOf(others, PAGE))
          for (const file of await spaceFilesToRead(database, account.id, page)) {
            const client = clients.get(file.space) ?? (await clientOf(context, account, file.space));
            if (!client) continue;
            clients.set(file.space, client);
            const sha256 = await hashOf(client, file);
            if (!(await keep(file.bytes, (db) => saveSpaceDigest(db, account.id, file.id, sha256)))) return false;
          }
        return true;
      } finally {
        for (const client of clients.values()) client.close();
      }
    },
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

async function clientOf(context: WorkContext, account: Account, id: number): Promise<DavClient | undefined> {
  const space = await spaceById(context.database, account.id, id);
  return space && openSpace(context, account, space);
}

/** SHA-256 (FIPS 180-4) of a file; null where it can't be read as it was listed. */
async function hashOf(client: DavClient, { path, bytes }: SpaceFileToRead): Promise<Buffer | null> {
  const hash = createHash('sha256');
  try {
    for await (const piece of download(client, path, bytes)) hash.update(piece);
    return hash.digest();
  } catch (error) {
    if (error instanceof SpaceProblem && OF_ONE.has(error.kind)) return null;
    throw error;
  }
}
