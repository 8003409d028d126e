import type { FileColumns } from '../../core/columns/file-columns';
import { trashFolders } from '../../core/mailbox/folders';
import type { Account } from '../access/accounts';
import { type Database, overWholeAccount, theRow, transaction } from '../database';
import { foldersOf } from '../index/folders';
import { unpacked } from '../index/packed';
import { IS_COPY } from './bags';

/**
 * Reads the files of a mailbox as columns, packed by PostgreSQL in the order of their ids. A message that lies in several
 * folders has its files once, in one outside the trash where there is one.
 */
export async function readFileColumns(database: Database, account: Account): Promise<FileColumns> {
  return transaction(database, async (client) => {
    await overWholeAccount(client);
    const folders = (await foldersOf(client, account.id)).filter(({ repeats }) => !repeats);
    const trash = trashFolders(folders, account.settings.trashFolder).map(({ id }) => id);
    const packed = await theRow<
      Record<'id' | 'size' | 'placement' | 'kind' | 'copy', Buffer | null> & { name: string | null }
    >(
      client,
      `with place as materialized (
         select message, coalesce(min(id) filter (where folder <> all($3::int[])), min(id)) as id from placement
         where account = $1 and gone_at is null and folder = any($2::int[]) group by message),
       kept as materialized (
         select c.file, bool_or(c.checked_at is not null) as checked from bag_file c
         join bag b on b.account = c.account and b.id = c.bag
         where c.account = $1 and ${IS_COPY} group by c.file)
       select string_agg(float8send(r.id::float8), ''::bytea) as id, string_agg(float8send(r.own_size::float8), ''::bytea) as size,
         string_agg(int4send(r.placement::int), ''::bytea) as placement, string_agg(int4send(r.kind), ''::bytea) as kind,
         string_agg(int4send(r.copy), ''::bytea) as copy, string_agg(r.name, E'\\n') as name
       from (
         select f.id, f.own_size, f.kind::int, place.id as placement, replace(f.name, E'\\n', ' ') as name,
           case when kept.file is null then 0 when kept.checked then 2 else 1 end as copy
         from file f join place on place.message = f.id / 512 left join kept on kept.file = f.id
         where f.account = $1 order by f.id) r`,
      [account.id, folders.map(({ id }) => id), trash],
    );
    const id = unpacked(packed.id, 8) as Float64Array;
    return {
      length: id.length,
      id,
      size: unpacked(packed.size, 8) as Float64Array,
      placement: Uint32Array.from(unpacked(packed.placement, 4)),
      kind: Uint8Array.from(unpacked(packed.kind, 4)),
      copy: Uint8Array.from(unpacked(packed.copy, 4)),
      name: id.length === 0 ? [] : (packed.name ?? '').split('\n'),
      changed: new Float64Array(id.length),
      folder: new Array<string>(id.length).fill(''),
    };
  });
}
