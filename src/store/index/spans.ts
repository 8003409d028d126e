/**
 * How sets meet the rows of placement. Each range of a set, or each number of a list, is one descent of an index and then the
 * rows that lie in it, one after the other: the cost is that of the ranges and of the rows that they hold, whatever the
 * planner knows or believes of the tables. A subquery with OFFSET is neither flattened nor joined in another order
 * (PostgreSQL, `is_simple_subquery`), and LATERAL hands it the bounds of the range.
 *
 * All are items of FROM, in which the rows are called p; $1 is the account. A statement that changes these rows meets them
 * again by `account` and `id` of p, and not by $1: with a constant the planner, where it knows nothing of the account, takes
 * the account for one row, and looks through the whole set for each row that there is.
 */
function spans(set: string, column: 'id' | 'uid', condition: string): string {
  return `unnest(${set}) as span cross join lateral (
    select * from placement
    where account = $1${condition} and ${column} >= lower(span) and ${column} < upper(span) offset 0) p`;
}

/** Placements whose ids lie in a multirange, tombstones included. */
export function placementsIn(set: string): string {
  return spans(set, 'id', '');
}

/** Live placements of generation $2 whose UIDs lie in a multirange. */
export function placementsByUid(set: string): string {
  return spans(set, 'uid', ' and generation = $2 and gone_at is null');
}

/**
 * Placements with the ids of an array, tombstones included.
 *
 * @param more further columns, each behind a comma.
 */
export function placementsOf(ids: string, more = ''): string {
  return `unnest(${ids}) as member (id) cross join lateral (
    select *${more} from placement where account = $1 and id = member.id offset 0) p`;
}

/** The message of each placement p of the items before; to be written behind these. */
export const THEIR_MESSAGE = `cross join lateral (
    select * from message where account = p.account and id = p.message offset 0) m`;
