import { useCallback, useMemo, useState } from 'react';
import type { Bag, FileLot } from '../../contract/types';
import { OF_THE_PLAN, useChange, useFigures, useScan } from '../../ui/api/account';
import type { ColumnsClient } from '../../ui/columns/client';
import { type Column, Grid, markColumn, OrderButton } from '../../ui/grid/Grid';
import { MarkedBar, workerMarks } from '../../ui/grid/MarkedBar';
import { TileGrid } from '../../ui/grid/TileGrid';
import { lengthColumn } from '../../ui/messages/columns';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import type { FileRow, FileSelector, ListWindow, Marking, NarrowedFiles } from '../../workers/protocol';
import { FileLook } from './FileLook';
import { MoveToSpace } from './MoveToSpace';
import { ShrinkInSpace } from './ShrinkInSpace';
import { Thumbnail } from './Thumbnail';

/** Rows kept ready above and below those in view. */
const MARGIN = 20;

const idOf = ({ id }: FileRow) => id;

/** The files that match, in any order, with what is marked and the ways to save it. */
export function FileList({
  narrowed,
  client,
  view,
  isPictures,
  onView,
  onOrder,
  ask,
}: {
  narrowed: NarrowedFiles;
  client: ColumnsClient;
  view: ListWindow;
  /** Whether files are shown as tiles, and not as lines. */
  isPictures: boolean;
  onView(first: number, count: number): void;
  onOrder(by: string): void;
  ask(): void;
}) {
  const figures = useFigures();
  const scan = useScan().data;
  const [looked, setLooked] = useState<FileRow>();
  const { rows, first, total, marked } = narrowed;
  const save = useChange<{ place: Bag['place'] } & Omit<FileSelector, 'expect' | 'kept'>, Bag>(
    () => '/bags',
    'POST',
    (body) => body,
    ['bags'],
  );
  const mark = async (marking: Marking) => {
    await client.call('markFiles', marking);
    ask();
  };
  const chosenFiles = async () => {
    const { where, ids, expect } = await client.call('fileSelector', null);
    if (expect.files === 0) return undefined;
    return where === undefined ? { ids: ids ?? [] } : { where };
  };
  const saveMarked = async (place: Bag['place']) => {
    if (save.isPending) return;
    const chosen = await chosenFiles();
    if (chosen) save.mutate({ place, ...chosen }, { onSuccess: () => void mark({ kind: 'none' }) });
  };
  const showAround = useCallback(
    (from: number, to: number) => onView(Math.max(0, from - MARGIN), to - from + 1 + 2 * MARGIN),
    [onView],
  );
  const largest = useMemo(() => rows.reduce((most, { size }) => Math.max(most, size), 1), [rows]);
  const columns = useMemo(() => columnsOf(figures, largest), [figures, largest]);
  const trash = useChange<number[], { lots: FileLot[] }>(
    () => '/file-lots',
    'POST',
    (ids) => ({ ids, label: text.files.keptLot(ids.length, count(ids.length)) }),
    OF_THE_PLAN,
  );
  const { keptMarked } = narrowed;
  const markKept = async () => {
    if (trash.isPending || keptMarked.files === 0) return;
    const { kept } = await client.call('fileSelector', null);
    trash.mutate(kept, { onSuccess: () => void mark({ kind: 'none' }) });
  };
  const filling = scan?.state === 'running' || scan?.state === 'queued';
  // Only what came by mail is saved.
  const nothing = marked.messages - keptMarked.files === 0 || save.isPending;
  const ordered = { by: view.order, descends: view.descending, change: onOrder };
  const shared = {
    label: text.files.label,
    count: total.messages,
    rowAt: (index: number) => rows[index - first],
    keyOf: idOf,
    marks: workerMarks<FileRow>((marking) => void mark(marking)),
    onView: showAround,
    onOpen: (row: FileRow) => setLooked(row),
    onDelete: () => void markKept(),
    empty: filling ? text.sift.filling : text.files.nothing,
  };
  return (
    <section className="card flex min-h-64 min-w-0 flex-1 flex-col">
      <MarkedBar
        match={text.files.match(total.messages, count(total.messages), figures.octets(total.bytes))}
        matching={total.messages}
        everything={narrowed.everything.messages}
        marked={marked}
        mark={(marking) => void mark(marking)}
      >
        {keptMarked.files > 0 && (
          <button type="button" className="button" disabled={trash.isPending} onClick={() => void markKept()}>
            {text.files.trashKept(keptMarked.files, count(keptMarked.files), figures.octets(keptMarked.bytes))}
          </button>
        )}
        {keptMarked.files > 0 && (
          <ShrinkInSpace
            choose={async () => {
              const { kept, keptPicture } = await client.call('fileSelector', null);
              return { ids: kept, example: keptPicture };
            }}
            onMarked={() => void mark({ kind: 'none' })}
          />
        )}
        <MoveToSpace disabled={nothing} choose={chosenFiles} onMoved={() => void mark({ kind: 'none' })} />
        <button type="button" className="button" disabled={nothing} onClick={() => void saveMarked('download')}>
          {text.files.saveThere}
        </button>
        <button
          type="button"
          className="button button-chief"
          disabled={nothing}
          onClick={() => void saveMarked('here')}
        >
          {text.files.saveHere}
        </button>
      </MarkedBar>
      <Refused error={save.error ?? trash.error} />
      {isPictures ? (
        <>
          <p className="flex gap-4 pb-1 text-[11.5px] text-ink-2">
            {columns.map(({ key, head, order }) =>
              order === undefined ? null : (
                <OrderButton key={key} order={order} ordered={ordered}>
                  {head}
                </OrderButton>
              ),
            )}
          </p>
          <TileGrid {...shared} tile={(row) => <Tile row={row} />} />
        </>
      ) : (
        <Grid {...shared} columns={columns} total={total.messages} ordered={ordered} />
      )}
      <p className="note mt-2">{text.files.keys}</p>
      <FileLook
        file={looked}
        client={client}
        onClose={() => setLooked(undefined)}
        onMark={(ids) => void mark({ kind: 'ids', ids, on: true })}
      />
    </section>
  );
}

/** A file as a picture of it, its name and its size. */
function Tile({ row }: { row: FileRow }) {
  const { octets, day } = useFigures();
  return (
    <>
      <span className="flex h-[82px] items-center justify-center bg-hair text-ink-2">
        <Thumbnail file={row}>{text.files.oneOf[row.kind]}</Thumbnail>
      </span>
      <span className="block truncate text-[11.5px]">{row.name || text.files.noName}</span>
      <span className="flex justify-between text-[11px] whitespace-nowrap text-ink-2">
        <strong className="font-semibold text-ink">{octets(row.size)}</strong>
        {day(new Date(row.date * 1000).toISOString())}
      </span>
    </>
  );
}

function columnsOf(figures: ReturnType<typeof useFigures>, largest: number): Column<FileRow>[] {
  const quiet = (shown: React.ReactNode) => <span className="text-ink-2">{shown}</span>;
  return [
    markColumn(),
    lengthColumn(largest, 'water'),
    {
      key: 'size',
      head: text.sift.size,
      width: '78px',
      align: 'right',
      order: 'size',
      cell: ({ size }) => figures.octets(size),
    },
    {
      key: 'kind',
      head: text.files.kind,
      width: '66px',
      minor: true,
      cell: (row) => (
        <span className="flex h-[22px] w-[34px] items-center">
          <Thumbnail file={row}>{quiet(text.files.oneOf[row.kind])}</Thumbnail>
        </span>
      ),
    },
    {
      key: 'name',
      head: text.files.name,
      width: 'minmax(100px, 2fr)',
      order: 'subject',
      cell: ({ name }) => name || quiet(text.files.noName),
    },
    {
      key: 'from',
      head: text.sift.from,
      width: 'minmax(80px, 1fr)',
      order: 'from',
      cell: ({ author, place }) => (place === 'space' ? quiet(text.files.places.space) : author || text.sift.noSender),
    },
    {
      key: 'date',
      head: text.sift.date,
      width: '84px',
      order: 'date',
      minor: true,
      cell: ({ date }) => quiet(figures.day(new Date(date * 1000).toISOString())),
    },
    {
      key: 'folder',
      head: text.look.folder,
      width: 'minmax(60px, 0.6fr)',
      order: 'folder',
      minor: true,
      // The host of a file space is the same for most.
      cell: ({ folder, place }) => (
        <span className="text-ink-2" title={folder}>
          {place === 'space' ? folder.slice(folder.indexOf('/') + 1) : folder}
        </span>
      ),
    },
    {
      key: 'mailed',
      head: text.files.mailed,
      width: '56px',
      align: 'right',
      minor: true,
      cell: ({ mailed, place }) =>
        place === 'space' ? '' : mailed > 1 ? <strong>{text.files.times(mailed)}</strong> : quiet(text.files.times(1)),
    },
    {
      key: 'copy',
      head: text.files.copy,
      width: '78px',
      minor: true,
      cell: ({ copy, place }) =>
        place === 'space' ? '' : copy === 'none' ? quiet(text.files.copies.none) : text.files.copies[copy],
    },
  ];
}
