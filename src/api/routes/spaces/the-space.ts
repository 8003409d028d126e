import type { Account } from '../../../store/access/accounts';
import type { Queryable } from '../../../store/database';
import { type FileSpace, spaceById } from '../../../store/space/spaces';
import { notFound } from '../../problem';

/** The file space that a request names. @throws Problem where there is none. */
export async function theSpace(db: Queryable, { id: account }: Account, id: string | undefined): Promise<FileSpace> {
  const space = /^\d{1,9}$/.test(id ?? '') ? await spaceById(db, account, Number(id)) : undefined;
  if (!space) throw notFound();
  return space;
}
