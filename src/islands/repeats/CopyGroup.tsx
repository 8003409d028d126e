import { Fragment, type ReactNode } from 'react';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';

/** One of several that are the same. */
export interface GroupCopy {
  id: number;
  /** Where it is. */
  place: ReactNode;
  from?: string | undefined;
  date?: string | undefined;
  state: keyof typeof text.repeats.states;
  reason: string;
}

/** What exists more than once, and below it where: which stays, which can go, and why. Rows of a table with `groupHeads`. */
export function CopyGroup({
  title,
  wins,
  from,
  date,
  copies,
  more,
  choice,
}: {
  title: string;
  wins: string;
  from?: string | undefined;
  date?: string | undefined;
  copies: readonly GroupCopy[];
  /** How many are not shown. */
  more: number;
  /** Whether it is to go into the plan; undefined where nothing of it can. */
  choice: { isChosen: boolean; onToggle(): void } | undefined;
}) {
  return (
    <Fragment>
      <tr>
        <td>
          {choice && (
            <input
              type="checkbox"
              checked={choice.isChosen}
              aria-label={text.repeats.take(title)}
              onChange={choice.onToggle}
            />
          )}
        </td>
        <td className="number whitespace-nowrap">{wins}</td>
        <td className="max-w-[320px] truncate font-semibold" title={title}>
          {title}
        </td>
        <td className="max-w-[180px] truncate max-md:hidden" title={from}>
          {from}
        </td>
        <td className="whitespace-nowrap text-ink-2 max-md:hidden">{date}</td>
        <td className="max-md:hidden" />
        <td className="max-md:hidden" />
      </tr>
      {copies.map(({ id, place, from: author, date: day, state, reason }) => (
        <tr key={id}>
          <td />
          <td />
          <td className="max-w-[320px] truncate pl-5">
            {place}
            <span className="note block truncate md:hidden">
              {text.repeats.states[state]} · {reason}
            </span>
          </td>
          <td className="max-w-[180px] truncate max-md:hidden" title={author}>
            {author}
          </td>
          <td className="whitespace-nowrap text-ink-2 max-md:hidden">{day}</td>
          <td className={`font-semibold whitespace-nowrap max-md:hidden ${state === 'stays' ? 'text-water' : ''}`}>
            {text.repeats.states[state]}
          </td>
          <td className="note max-md:hidden">{reason}</td>
        </tr>
      ))}
      {more > 0 && (
        <tr>
          <td />
          <td />
          <td className="note pl-5" colSpan={5}>
            {text.repeats.moreCopies(count(more))}
          </td>
        </tr>
      )}
    </Fragment>
  );
}

/** The heads of such a table. @param what names what exists more than once. */
export function groupHeads(what: string): [string, string][] {
  return [
    ['', ''],
    [text.repeats.wins, 'number'],
    [what, ''],
    [text.repeats.from, 'max-md:hidden'],
    [text.repeats.date, 'max-md:hidden'],
    ['', 'max-md:hidden'],
    [text.repeats.why, 'max-md:hidden'],
  ];
}
