import { useEffect, useRef } from 'react';

/**
 * Tells which rows are in view, the first and the last, when these are others. Whoever is told draws anew with another function to
 * tell; were that told too, drawing would never end.
 */
export function useView(
  onView: ((first: number, last: number) => void) | undefined,
  first: number,
  last: number,
): void {
  const newest = useRef(onView);
  newest.current = onView;
  useEffect(() => newest.current?.(first, last), [first, last]);
}
