/** Which rows of a list are marked: some by name, or everything that matches but some. */
export type Marking<K> = { kind: 'some'; keys: ReadonlySet<K> } | { kind: 'all'; except: ReadonlySet<K> };

export const nothing = <K>(): Marking<K> => ({ kind: 'some', keys: new Set() });
export const everything = <K>(): Marking<K> => ({ kind: 'all', except: new Set() });

export function isMarked<K>(marking: Marking<K>, key: K): boolean {
  return marking.kind === 'some' ? marking.keys.has(key) : !marking.except.has(key);
}

/** Marks or unmarks a range of rows. */
export function withMarks<K>(marking: Marking<K>, keys: Iterable<K>, marked: boolean): Marking<K> {
  const set = new Set(marking.kind === 'some' ? marking.keys : marking.except);
  const holds = (marking.kind === 'some') === marked;
  for (const key of keys) holds ? set.add(key) : set.delete(key);
  return marking.kind === 'some' ? { kind: 'some', keys: set } : { kind: 'all', except: set };
}

export function isEmpty<K>(marking: Marking<K>): boolean {
  return marking.kind === 'some' && marking.keys.size === 0;
}

/** The marks of a list, as a grid shows and changes them. */
export interface Marks<Row> {
  has(row: Row): boolean;
  /** Turns the mark of the row at a place. */
  toggle(index: number): void;
  /** Marks or unmarks the rows from one place to another, both inside. */
  range(first: number, last: number, on: boolean): void;
  all(): void;
  none(): void;
}

/** Marks that are kept by the keys of rows that are loaded. */
export function keyMarks<Row, K>(
  rows: readonly Row[],
  keyOf: (row: Row) => K,
  marking: Marking<K>,
  onMark: (marking: Marking<K>) => void,
): Marks<Row> {
  return {
    has: (row) => isMarked(marking, keyOf(row)),
    toggle: (index) => {
      const row = rows[index];
      if (row !== undefined) onMark(withMarks(marking, [keyOf(row)], !isMarked(marking, keyOf(row))));
    },
    range: (first, last, on) => onMark(withMarks(marking, rows.slice(first, last + 1).map(keyOf), on)),
    all: () => onMark(everything()),
    none: () => onMark(nothing()),
  };
}
