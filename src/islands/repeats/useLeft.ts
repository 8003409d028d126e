import { useState } from 'react';

/** What of a list somebody does not want to mark: all else is chosen, also what was not shown yet. */
export function useLeft() {
  const [left, setLeft] = useState<ReadonlySet<number>>(new Set());
  const toggle = (id: number) =>
    setLeft((before) => {
      const next = new Set(before);
      if (!next.delete(id)) next.add(id);
      return next;
    });
  return { left, toggle, clear: () => setLeft(new Set()) };
}
