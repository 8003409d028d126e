import type { ReactNode } from 'react';
import type { Lot } from '../../../contract/types';
import type { Measure } from '../../../core/level/gauge';
import { isOfFiles } from '../../../core/plan/fates';
import { OF_THE_PLAN, useChange, useFigures } from '../../../ui/api/account';
import { Bar } from '../../../ui/Bar';
import { Link } from '../../../ui/route';
import { Refused } from '../../../ui/State';
import { text } from '../../../ui/text';
import { count } from '../../../ui/text/format';
import { LotParts } from './LotParts';

/** A lot: what it holds, adds and holds alone, what guards keep of it, and what can be done with it. */
export function LotRow({
  lot,
  most,
  of,
  place,
  last,
  open,
  onOpen,
}: {
  lot: Lot;
  /** What the lot adds that adds most. */
  most: number;
  /** What the level is told in. */
  of: Measure;
  /** Among those of its fate, from 0, and the last of these. */
  place: number;
  last: number;
  open: boolean;
  onOpen(open: boolean): void;
}) {
  const { octets, amount } = useFigures();
  const drop = useChange<void>(
    () => `/lots/${lot.id}`,
    'DELETE',
    () => undefined,
    OF_THE_PLAN,
  );
  const move = useChange<number>(
    () => `/lots/${lot.id}`,
    'PATCH',
    (to) => ({ place: to }),
    OF_THE_PLAN,
  );
  const notes = [
    ...(lot.fate === 'purge' ? [text.review.purges] : []),
    ...(lot.fate === 'archive' ? [text.review.archives] : []),
    ...(lot.fate === 'strip' ? [text.review.strips(lot.files, count(lot.files))] : []),
    ...(lot.shrinking ? [text.review.shrinks(lot.files, count(lot.files), lot.shrinking.longest)] : []),
    ...(lot.textKept > 0 ? [text.review.textKept(text.messages(lot.textKept, count(lot.textKept)))] : []),
    ...(lot.excepted > 0 ? [text.review.excepted(count(lot.excepted))] : []),
    ...(lot.vanished > 0 ? [text.review.vanished(text.messages(lot.vanished, count(lot.vanished)))] : []),
  ];
  const ofFiles = isOfFiles(lot.fate);
  const criteria =
    lot.where === null
      ? text.review[ofFiles ? 'chosenFiles' : 'chosen']
      : ofFiles
        ? text.review.ofFiles(lot.where)
        : lot.where;
  const sift = `/sift?where=${encodeURIComponent(lot.where ?? '')}&lot=${lot.id}`;
  const act = (name: string, doIt: () => void): ReactNode => (
    <button type="button" className="link" onClick={doIt} aria-label={`${name}: ${lot.label}`}>
      {name}
    </button>
  );
  return (
    <>
      <tr>
        <td className="wrap-anywhere">
          <span className="font-semibold">{lot.label}</span>{' '}
          {notes.length > 0 && <span className="note">{notes.join(' · ')}</span>}
        </td>
        <td className="minor font-mono text-[12px] text-ink-2 wrap-anywhere">{criteria}</td>
        <td className="number">{count(lot.messages)}</td>
        <td className="number minor">{octets(lot.bytes)}</td>
        <td className="number minor">{amount(of, lot.only[of])}</td>
        <td className="number">{amount(of, lot.adds[of])}</td>
        <td className="minor">
          <Bar share={lot.adds[of] / most} kind="hatch" />
        </td>
        <td className="number minor" title={octets(lot.guarded.bytes)}>
          {lot.guarded.messages > 0 ? count(lot.guarded.messages) : '–'}
        </td>
        <td className="number">
          <span className="inline-flex flex-wrap justify-end gap-x-2 lg:flex-nowrap">
            {place > 0 && act(text.review.up, () => move.mutate(place - 1))}
            {place < last && act(text.review.down, () => move.mutate(place + 1))}
            {act(open ? text.review.close : text.review.open, () => onOpen(!open))}
            {!ofFiles && (
              <Link className="link" to={sift} aria-label={`${text.review.sift}: ${lot.label}`}>
                {text.review.sift}
              </Link>
            )}
            {act(text.review.drop, () => drop.mutate())}
          </span>
          <Refused error={drop.error ?? move.error} />
        </td>
      </tr>
      {open && (
        <tr>
          <td colSpan={9}>
            <LotParts lot={lot} />
          </td>
        </tr>
      )}
    </>
  );
}
