import type { FlagSet } from '../../core/mailbox/flags';
import { type Queryable, rows } from '../database';

/** A replacement in a folder, with the flags of its original when they were last copied. */
export interface CarriedFlags {
  /** The placement of the original. */
  original: number;
  generation: number;
  uid: number;
  /** Undefined where it was never noted. */
  flags: FlagSet | undefined;
}

interface Row {
  original: number;
  generation: number;
  uid: number;
  flags: number | null;
  keywords: string[] | null;
}

const COLUMNS = 'w.placement as original, w.generation, w.uid, w.flags, w.keywords';
const STANDS = `w.account = $1 and w.run = $2 and w.state = 'standing' and w.uid is not null`;
/** Replacements of a page. */
const AT_ONCE = 2_000;

function carriedIn({ flags, keywords, ...row }: Row): CarriedFlags {
  return { ...row, flags: flags === null ? undefined : { flags, keywords: keywords ?? [] } };
}

/** The replacements of some originals of a run that stand, by original. */
export async function carriedFlags(
  db: Queryable,
  account: number,
  run: number,
  originals: readonly number[],
): Promise<Map<number, CarriedFlags>> {
  const found = await rows<Row>(
    db,
    `select ${COLUMNS} from run_rewrite w where ${STANDS} and w.placement = any($3::bigint[])`,
    [account, run, originals],
  );
  return new Map(found.map((row) => [row.original, carriedIn(row)]));
}

/** All replacements of a run that stand and whose originals it brought to the trash, with where these are there; in pages. */
export async function* originalsInTrash(
  db: Queryable,
  account: number,
  run: number,
): AsyncGenerator<(CarriedFlags & { trash: { generation: number; uid: number } })[]> {
  for (let after = 0; ; ) {
    const found = await rows<Row & { trash: { generation: number; uid: number } | null }>(
      db,
      `select ${COLUMNS}, p.trash
       from (select * from run_rewrite w where ${STANDS} and w.placement > $3 order by w.placement limit ${AT_ONCE}) w
       left join lateral (
         select json_build_object('generation', generation, 'uid', uid) as trash from placement
         where account = w.account and id = w.placement and gone_at is null and trashed_by = w.run offset 0) p on true
       order by w.placement`,
      [account, run, after],
    );
    yield found.flatMap(({ trash, ...row }) => (trash ? [{ ...carriedIn(row), trash }] : []));
    const last = found.at(-1);
    if (!last) return;
    after = last.original;
  }
}

/** Records the flags that replacements got from their originals. */
export async function noteCarriedFlags(
  db: Queryable,
  account: number,
  run: number,
  carried: readonly { original: number; flags: FlagSet }[],
): Promise<void> {
  await db.query(
    `update run_rewrite w set flags = c.flags, keywords = array(select json_array_elements_text(c.keywords))
     from unnest($3::bigint[], $4::int[], $5::json[]) as c (original, flags, keywords)
     where w.account = $1 and w.run = $2 and w.placement = c.original`,
    [
      account,
      run,
      carried.map(({ original }) => original),
      carried.map(({ flags }) => flags.flags),
      carried.map(({ flags }) => JSON.stringify(flags.keywords)),
    ],
  );
}
