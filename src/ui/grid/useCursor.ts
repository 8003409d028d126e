import { type KeyboardEvent, type MouseEvent, useEffect, useRef, useState } from 'react';
import type { Marks } from './marking';

interface CursorOptions<Row> {
  count: number;
  rowAt(index: number): Row | undefined;
  marks: Marks<Row>;
  /** By key, how many rows it moves. Home and End are known. */
  steps(): Record<string, number>;
  /** Brings a row into view. */
  show(index: number): void;
  onOpen(row: Row): void;
  onDelete(row: Row | undefined): void;
  onKey?: ((key: string, row: Row | undefined) => boolean) | undefined;
}

/** The cursor of a list whose rows are marked: the keys, the pointer and the finger move it, and mark. */
export function useCursor<Row>({ count, rowAt, marks, steps, show, onOpen, onDelete, onKey }: CursorOptions<Row>) {
  const [cursor, setCursor] = useState(0);
  const anchor = useRef(0);
  useEffect(() => setCursor((at) => Math.max(0, Math.min(at, count - 1))), [count]);

  const moveTo = (index: number, extend: boolean) => {
    const to = Math.max(0, Math.min(count - 1, index));
    if (extend) marks.range(Math.min(anchor.current, to), Math.max(anchor.current, to), true);
    else anchor.current = to;
    setCursor(to);
    show(to);
  };
  const toggle = (index: number) => {
    if (index >= count) return;
    marks.toggle(index);
    anchor.current = index;
    setCursor(index);
  };
  const onKeyDown = (event: KeyboardEvent) => {
    const step = { Home: -count, End: count, ...steps() }[event.key];
    const row = rowAt(cursor);
    if (step !== undefined) moveTo(cursor + step, event.shiftKey);
    else if (event.key === ' ') toggle(cursor);
    else if (event.key === 'a' && (event.ctrlKey || event.metaKey)) marks.all();
    else if (event.key === 'Escape') marks.none();
    else if (event.key === 'Enter' && row !== undefined) onOpen(row);
    else if (event.key === 'Delete') onDelete(row);
    else if (event.ctrlKey || event.metaKey || event.altKey || !onKey?.(event.key, row)) return;
    event.preventDefault();
  };
  const onClick = (index: number, event: MouseEvent) => {
    if (event.shiftKey) moveTo(index, true);
    else toggle(index);
  };
  /** A long press of a finger. */
  const extendTo = (index: number, event: MouseEvent) => {
    if ((event.nativeEvent as PointerEvent).pointerType !== 'touch') return;
    event.preventDefault();
    moveTo(index, true);
  };
  return { cursor, onKeyDown, onClick, extendTo };
}
