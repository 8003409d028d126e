import type { ReactNode } from 'react';
import type { Amount } from '../../contract/types';
import { useFigures } from '../api/account';
import { everything, isEmpty, type Marking, nothing } from '../grid/marking';
import { text } from '../text';
import { count } from '../text/format';

/** What matches and what is marked of a list that is read page by page, and what can be done with it. */
export function MarkingBar({
  total,
  marked,
  marking,
  mark,
  children,
}: {
  total: Amount;
  marked: Amount;
  marking: Marking<number>;
  mark(marking: Marking<number>): void;
  children: ReactNode;
}) {
  const { octets } = useFigures();
  return (
    <div className="mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
      <p role="status">
        <strong>{text.sift.match(count(total.messages), octets(total.bytes))}</strong>
      </p>
      <p role="status" className="ml-auto">
        {marked.messages > 0 ? (
          <strong>{text.sift.marked(count(marked.messages), octets(marked.bytes))}</strong>
        ) : (
          <span className="text-ink-2">{text.sift.noneMarked}</span>
        )}
      </p>
      <span className="flex flex-wrap items-center gap-2">
        <button
          type="button"
          className="button"
          disabled={total.messages === 0}
          onClick={() => mark(isEmpty(marking) ? everything() : nothing())}
        >
          {isEmpty(marking) ? text.sift.markAll : text.sift.unmark}
        </button>
        {children}
      </span>
    </div>
  );
}
