import type { ReactNode } from 'react';
import type { Marked, Marking } from '../../workers/protocol';
import { useFigures } from '../api/account';
import { text } from '../text';
import { count } from '../text/format';
import type { Marks } from './marking';

/** What matches and what is marked, the ways to mark all and nothing, and what can be done with it. */
export function MarkedBar({
  match,
  matching,
  everything,
  marked,
  mark,
  children,
}: {
  /** What matches, in words. */
  match: string;
  /** How many rows match, and how many there are. */
  matching: number;
  everything: number;
  marked: Marked;
  mark(marking: Marking): void;
  children: ReactNode;
}) {
  const { octets } = useFigures();
  return (
    <div className="mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
      <p role="status">
        <strong>{match}</strong> <span className="text-ink-2">{text.sift.ofAll(count(everything))}</span>
      </p>
      <p role="status" className="ml-auto" aria-live="polite">
        {marked.messages > 0 ? (
          <strong>{text.sift.marked(count(marked.messages), octets(marked.bytes))}</strong>
        ) : (
          <span className="text-ink-2">{text.sift.noneMarked}</span>
        )}
        {marked.excepted > 0 && <span className="text-ink-2"> {text.sift.excepted(count(marked.excepted))}</span>}
      </p>
      <span className="flex flex-wrap gap-2">
        <button type="button" className="button" disabled={matching === 0} onClick={() => mark({ kind: 'all' })}>
          {text.sift.markAll}
        </button>
        {marked.messages > 0 && (
          <button type="button" className="button" onClick={() => mark({ kind: 'none' })}>
            {text.sift.unmark}
          </button>
        )}
        {children}
      </span>
    </div>
  );
}

/** Marks of a grid whose rows the worker marks. */
export function workerMarks<Row extends { marked: boolean }>(mark: (marking: Marking) => void): Marks<Row> {
  return {
    has: (row) => row.marked,
    toggle: (index) => mark({ kind: 'toggle', index }),
    range: (from, to, on) => mark({ kind: 'range', first: from, last: to, on }),
    all: () => mark({ kind: 'all' }),
    none: () => mark({ kind: 'none' }),
  };
}
