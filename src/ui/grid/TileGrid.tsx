import { useVirtualizer } from '@tanstack/react-virtual';
import { type ReactNode, useEffect, useId, useRef, useState } from 'react';
import type { Marks } from './marking';
import { useCursor } from './useCursor';
import { useView } from './useView';

/** The least width of a tile in pixels, its height, and what is between two. */
const TILE_WIDTH = 116;
const TILE_HEIGHT = 118;
const GAP = 8;

/**
 * What a list holds as tiles, any number of them: only those in view are in the page. The keys are those of the list, and the
 * arrows to the sides.
 */
export function TileGrid<Row>({
  label,
  count,
  rowAt,
  keyOf,
  marks,
  onView,
  onOpen,
  onDelete,
  tile,
  empty,
}: {
  label: string;
  count: number;
  /** Undefined where it is still on its way. */
  rowAt(index: number): Row | undefined;
  keyOf(row: Row): string | number;
  marks: Marks<Row>;
  /** Called with the first and last tile in view. */
  onView(first: number, last: number): void;
  onOpen(row: Row): void;
  onDelete(row: Row | undefined): void;
  tile(row: Row): ReactNode;
  empty: ReactNode;
}) {
  const scroller = useRef<HTMLDivElement>(null);
  const across = useAcross(scroller);
  const id = useId();
  const virtual = useVirtualizer({
    count: Math.ceil(count / across),
    getScrollElement: () => scroller.current,
    estimateSize: () => TILE_HEIGHT + GAP,
    overscan: 2,
  });
  const shown = virtual.getVirtualItems();
  const first = (shown[0]?.index ?? 0) * across;
  const last = Math.min(count - 1, (shown.at(-1)?.index ?? 0) * across + across - 1);
  useView(onView, first, last);
  const pageRows = () => Math.max(1, Math.floor((scroller.current?.clientHeight ?? 300) / (TILE_HEIGHT + GAP)));
  const { cursor, onKeyDown, onClick, extendTo } = useCursor({
    count,
    rowAt,
    marks,
    steps: () => ({
      ArrowRight: 1,
      ArrowLeft: -1,
      ArrowDown: across,
      ArrowUp: -across,
      PageDown: across * pageRows(),
      PageUp: -across * pageRows(),
    }),
    show: (index) => virtual.scrollToIndex(Math.floor(index / across)),
    onOpen,
    onDelete,
  });
  return (
    <div
      ref={scroller}
      role="listbox"
      aria-label={label}
      aria-multiselectable="true"
      tabIndex={0}
      onKeyDown={onKeyDown}
      aria-activedescendant={count > 0 ? `${id}-${cursor}` : undefined}
      className="max-h-[85dvh] min-h-24 flex-1 overflow-y-auto border-t border-line pt-2"
    >
      {count === 0 ? (
        <p className="py-6 text-ink-2">{empty}</p>
      ) : (
        <div role="presentation" style={{ height: virtual.getTotalSize(), position: 'relative' }}>
          {shown.flatMap(({ index: line, start }) =>
            Array.from({ length: Math.min(across, count - line * across) }, (_, at) => {
              const index = line * across + at;
              const row = rowAt(index);
              const marked = row !== undefined && marks.has(row);
              return (
                <div
                  key={row === undefined ? `at ${index}` : keyOf(row)}
                  id={`${id}-${index}`}
                  role="option"
                  aria-selected={marked}
                  aria-setsize={count}
                  aria-posinset={index + 1}
                  onClick={(event) => onClick(index, event)}
                  onDoubleClick={() => row !== undefined && onOpen(row)}
                  onContextMenu={(event) => extendTo(index, event)}
                  className={`absolute cursor-default overflow-hidden rounded-[3px] border p-1 select-none ${marked ? 'border-ink bg-tint' : 'border-hair'} ${index === cursor ? 'cursor-row' : ''}`}
                  style={{
                    height: TILE_HEIGHT,
                    width: `calc((100% - ${(across - 1) * GAP}px) / ${across})`,
                    left: `calc(${at} * ((100% - ${(across - 1) * GAP}px) / ${across} + ${GAP}px))`,
                    transform: `translateY(${start}px)`,
                  }}
                >
                  {row === undefined ? '…' : tile(row)}
                </div>
              );
            }),
          )}
        </div>
      )}
    </div>
  );
}

/** How many tiles stand beside each other. */
function useAcross(scroller: React.RefObject<HTMLDivElement | null>): number {
  const [across, setAcross] = useState(1);
  useEffect(() => {
    const element = scroller.current;
    if (!element) return;
    const observer = new ResizeObserver(() =>
      setAcross(Math.max(1, Math.floor((element.clientWidth + GAP) / (TILE_WIDTH + GAP)))),
    );
    observer.observe(element);
    return () => observer.disconnect();
  }, [scroller]);
  return across;
}
