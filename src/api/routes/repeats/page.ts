import { cursorFrom, cursorText } from '../../cursor';

/** A page of a list that has no numbers of its own to go on by: it goes on by the place. */
export function pageByPlace<T>(
  list: readonly T[],
  { limit, after: told }: { limit: number; after?: string | undefined },
): { page: T[]; next: { next?: string } } {
  const from = Number(cursorFrom(told)?.value ?? 0);
  const page = list.slice(from, from + limit);
  const end = from + page.length;
  return { page, next: end < list.length ? { next: cursorText({ value: `${end}`, id: 0 }) } : {} };
}

/**
 * A page of what is ordered by the octets that can be won, and where the next one begins.
 *
 * @param after where this one begins, as the page before told it.
 */
export function pageOf<T extends { id: number; bytes: number }>(
  groups: readonly T[],
  { limit, after: told }: { limit: number; after?: string | undefined },
): { page: T[]; next: { next?: string } } {
  const after = cursorFrom(told);
  const wanted = groups.filter(
    ({ id, bytes }) => !after || bytes < Number(after.value) || (bytes === Number(after.value) && id > after.id),
  );
  const page = wanted.slice(0, limit);
  const last = page.at(-1);
  const isMore = last !== undefined && wanted.length > page.length;
  return { page, next: isMore ? { next: cursorText({ value: `${last.bytes}`, id: last.id }) } : {} };
}
