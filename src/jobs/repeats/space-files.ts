import type { DavClient } from '../../dav/client';
import { SpaceProblem, type SpaceProblemKind } from '../../dav/problem';
import type { Account } from '../../store/access/accounts';
import { type SpaceFileToRead, spaceFilesToRead } from '../../store/space/doubled';
import { spaceById } from '../../store/space/spaces';
import type { WorkContext } from '../context';
import { openSpace } from '../space/sign-in';
import { pagesOf } from './reading';

/** Files of file spaces that are looked up at a time. */
const PAGE = 500;
/** What concerns one file: it proves nothing, and the next listing tells what became of it. */
const OF_ONE = new Set<SpaceProblemKind>([
  ...(['gone', 'changed', 'forbidden', 'locked', 'command-refused', 'unreadable-answer'] as const),
]);

/**
 * Does something with files of file spaces that are there, one after the other.
 *
 * @param act gives false where the work has to give way.
 * @returns false where it gave way.
 */
export async function eachSpaceFile(
  context: WorkContext,
  account: Account,
  ids: readonly number[],
  act: (client: DavClient, file: SpaceFileToRead) => Promise<boolean>,
): Promise<boolean> {
  const { database } = context;
  const clients = new Map<number, DavClient>();
  try {
    for (const page of pagesOf(ids, PAGE))
      for (const file of await spaceFilesToRead(database, account.id, page)) {
        const client = clients.get(file.space) ?? (await clientOf(context, account, file.space));
        if (!client) continue;
        clients.set(file.space, client);
        if (!(await act(client, file))) return false;
      }
    return true;
  } finally {
    for (const client of clients.values()) client.close();
  }
}

async function clientOf(context: WorkContext, account: Account, id: number): Promise<DavClient | undefined> {
  const space = await spaceById(context.database, account.id, id);
  return space && openSpace(context, account, space);
}

/** Reads a file. @returns false where it can't be read as it was listed. */
export async function readOrLeave(read: () => Promise<void>): Promise<boolean> {
  try {
    await read();
    return true;
  } catch (error) {
    if (error instanceof SpaceProblem && OF_ONE.has(error.kind)) return false;
    throw error;
  }
}
