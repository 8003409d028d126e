import { useInfiniteQuery } from '@tanstack/react-query';
import { useState } from 'react';
import type { FileLot, FilePlan, LotFile } from '../../../contract/types';
import { OF_THE_PLAN, useAccount, useChange, useFigures } from '../../../ui/api/account';
import { call } from '../../../ui/api/call';
import { Bar } from '../../../ui/Bar';
import { Heads } from '../../../ui/Heads';
import { Failed, Loading, Refused } from '../../../ui/State';
import { text } from '../../../ui/text';
import { count } from '../../../ui/text/format';

/** Files that are shown at a time. */
const PAGE = 50;

/** The lots of files in the order in which they count, each to be opened. */
export function FileLots({ plan: { lots, total } }: { plan: FilePlan }) {
  const { octets } = useFigures();
  const [opened, setOpened] = useState<number>();
  const most = Math.max(1, ...lots.map(({ adds }) => adds.bytes));
  return (
    <section className="card">
      <h2 className="mb-1">
        {text.space.plan(
          text.strip.lots(lots.length, count(lots.length)),
          text.space.files(total.files, count(total.files)),
          octets(total.bytes),
        )}
      </h2>
      <div className="overflow-x-auto">
        <table className="table">
          <Heads
            of={[
              [text.review.lot],
              [text.space.count, 'number'],
              [text.review.bytes, 'number minor'],
              [text.review.only, 'number minor'],
              [text.review.adds, 'number'],
              ['', 'minor w-[90px]'],
              [''],
            ]}
          />
          <tbody>
            {lots.map((lot) => (
              <Row
                key={lot.id}
                lot={lot}
                most={most}
                open={opened === lot.id}
                onOpen={(open) => setOpened(open ? lot.id : undefined)}
              />
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}

function Row({ lot, most, open, onOpen }: { lot: FileLot; most: number; open: boolean; onOpen(open: boolean): void }) {
  const { octets } = useFigures();
  const drop = useChange<void>(
    () => `/file-lots/${lot.id}`,
    'DELETE',
    () => undefined,
    OF_THE_PLAN,
  );
  const notes = [
    ...(lot.fate === 'purge' ? [text.review.purges] : []),
    ...(lot.shrinking ? [text.space.shrinks(lot.shrinking.longest)] : []),
    ...(lot.excepted > 0 ? [text.review.excepted(count(lot.excepted))] : []),
    ...(lot.takenOut > 0 ? [text.space.takenOut(text.space.files(lot.takenOut, count(lot.takenOut)))] : []),
    ...(lot.vanished > 0 ? [text.space.changedSince(text.space.files(lot.vanished, count(lot.vanished)))] : []),
  ];
  return (
    <>
      <tr>
        <td className="wrap-anywhere">
          <span className="font-semibold">{lot.label}</span>{' '}
          {notes.length > 0 && <span className="note">{notes.join(' · ')}</span>}
        </td>
        <td className="number">{count(lot.files)}</td>
        <td className="number minor">{octets(lot.bytes)}</td>
        <td className="number minor">{octets(lot.only.bytes)}</td>
        <td className="number">{octets(lot.adds.bytes)}</td>
        <td className="minor">
          <Bar share={lot.adds.bytes / most} kind="hatch" />
        </td>
        <td className="number">
          <span className="inline-flex flex-wrap justify-end gap-x-2 lg:flex-nowrap">
            <button
              type="button"
              className="link"
              aria-label={`${open ? text.review.close : text.review.open}: ${lot.label}`}
              onClick={() => onOpen(!open)}
            >
              {open ? text.review.close : text.review.open}
            </button>
            <button
              type="button"
              className="link"
              aria-label={`${text.review.drop}: ${lot.label}`}
              onClick={() => drop.mutate()}
            >
              {text.review.drop}
            </button>
          </span>
          <Refused error={drop.error} />
        </td>
      </tr>
      {open && (
        <tr>
          <td colSpan={7}>
            <Files lot={lot} />
          </td>
        </tr>
      )}
    </>
  );
}

/** The files of a lot, each to be excluded, or taken in again. */
function Files({ lot }: { lot: FileLot }) {
  const { account, base } = useAccount();
  const { octets, day } = useFigures();
  const found = useInfiniteQuery({
    queryKey: ['lots', account.id, 'files', lot.id],
    queryFn: ({ pageParam }) =>
      call<{ files: LotFile[]; next?: string }>(
        `${base}/file-lots/${lot.id}/files?limit=${PAGE}${pageParam === '' ? '' : `&after=${encodeURIComponent(pageParam)}`}`,
      ),
    initialPageParam: '',
    getNextPageParam: ({ next }) => next,
  });
  const except = useChange<{ id: number; excepted: boolean }>(
    () => `/file-lots/${lot.id}`,
    'PATCH',
    ({ id, excepted }) => ({ [excepted ? 'takeIn' : 'alsoExcept']: [id] }),
    OF_THE_PLAN,
  );
  if (found.error) return <Failed error={found.error} retry={() => void found.refetch()} />;
  if (!found.data) return <Loading />;
  return (
    <>
      <ul className="grid gap-0.5">
        {found.data.pages.flatMap(({ files }) =>
          files.map(({ id, path, bytes, modified, excepted }) => (
            <li key={id} className="flex flex-wrap items-baseline gap-x-2">
              <span className={`min-w-0 flex-1 wrap-anywhere ${excepted ? 'text-ink-2 line-through' : ''}`}>
                {path}
              </span>
              <span className="note">
                {octets(bytes)}
                {modified && `, ${day(modified)}`}
              </span>
              <button
                type="button"
                className="link"
                aria-label={`${excepted ? text.review.takeIn : text.review.except}: ${path}`}
                onClick={() => except.mutate({ id, excepted })}
              >
                {excepted ? text.review.takeIn : text.review.except}
              </button>
            </li>
          )),
        )}
      </ul>
      {found.hasNextPage && (
        <button type="button" className="link" onClick={() => void found.fetchNextPage()}>
          {text.review.more}
        </button>
      )}
      <Refused error={except.error} />
    </>
  );
}
