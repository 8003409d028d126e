import { type Queryable, rows } from '../../../store/database';

/** A message as it is told among others. */
export interface ToldMessage {
  /** Of its placement. */
  id: number;
  message: number;
  subject: string;
  from: { name: string; address: string } | null;
  date: Date | null;
  folder: string;
}

/** Messages by their placements. */
export async function toldMessages(
  db: Queryable,
  account: number,
  placements: readonly number[],
): Promise<Map<number, ToldMessage>> {
  const found = await rows<Omit<ToldMessage, 'from'> & { name: string; address: string }>(
    db,
    `select p.id, m.id as message, m.subject, m.from_name as name, m.from_address as address, m.sent as date, f.path as folder
     from unnest($2::bigint[]) as wanted (id) join placement p on p.account = $1 and p.id = wanted.id
     join message m on m.account = p.account and m.id = p.message join folder f on f.account = p.account and f.id = p.folder`,
    [account, placements],
  );
  return new Map(
    found.map(({ name, address, ...one }) => [
      one.id,
      { ...one, from: name === '' && address === '' ? null : { name, address } },
    ]),
  );
}
