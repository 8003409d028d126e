import { type Columns, rowOfId } from '../core/columns/columns';
import type { Tally } from '../core/columns/cross-filter';
import { columnsOfFiles, type FileColumns, NOBODY } from '../core/columns/file-columns';
import { ranksOf } from '../core/columns/order';
import { parseCriteria } from '../core/criteria/parse';
import type { Criteria, Field } from '../core/criteria/tree';
import { COPIES } from '../core/files/copies';
import { FILE_KINDS, kindNumber } from '../core/files/kinds';
import { includes, type Ranges, rangesOf } from '../core/sets/ranges';
import { fold } from '../core/text';
import { MailboxView } from './mailbox-view';
import type { Outside } from './matching';
import {
  FILE_PLACES,
  type FileFilter,
  type FileRow,
  type FileSelector,
  type ListRow,
  type ListWindow,
  MAILED,
  type Marked,
  type Marking,
  type NarrowedFiles,
} from './protocol';

const PICTURE = kindNumber('picture');

/** Times that are still few. */
const FEW = 3;

const mailedCode = (times: number) => (times <= 1 ? 0 : times <= FEW ? 1 : 2);

/** The files of a mailbox, narrowed, ordered and marked as messages are; besides by how often mailed and by their copies. */
export class FilesView {
  private readonly rows: MailboxView;
  /** By row, the place of its file. */
  private readonly place: Uint32Array;
  /** By row, how often the same file was mailed: same name, kind and octets. */
  private readonly times: Uint32Array;
  private readonly sameAs: Map<string, number[]>;
  private filter: FileFilter = { copy: null, mailed: null, place: null };
  /** Whether files of file spaces are left out, since the criteria say something of messages. */
  private isOfMail = false;
  /** Whether all was marked while a filter was on, which no criteria say. */
  private markedByFilter = false;

  constructor(
    readonly files: FileColumns,
    messages: Columns,
    timeZone: string,
    trash: ReadonlySet<string>,
    outside: Outside,
    now: Date,
  ) {
    const { columns, place } = columnsOfFiles(files, messages);
    this.place = place;
    this.rows = new MailboxView(columns, timeZone, trash, this.outsideOf(outside), now);
    this.sameAs = this.groupedAlike();
    this.times = new Uint32Array(place.length);
    for (const alike of this.sameAs.values()) for (const row of alike) this.times[row] = alike.length;
  }

  private groupedAlike(): Map<string, number[]> {
    const groups = new Map<string, number[]>();
    const { scope } = this.rows;
    for (let row = 0; row < this.place.length; row++) {
      if (scope[row] === 0 || this.isKept(row)) continue;
      const key = this.keyOf(row);
      const group = groups.get(key);
      if (group) group.push(row);
      else groups.set(key, [row]);
    }
    return groups;
  }

  private keyOf(row: number): string {
    const at = this.place[row] as number;
    return `${this.files.size[at]} ${this.files.kind[at]} ${fold(this.files.name[at] as string)}`;
  }

  /** What is found outside the columns: names here, all else by the messages. */
  private outsideOf(outside: Outside): Outside {
    const { place, files } = this;
    const rowsWhere = (holds: (at: number) => boolean): Ranges => {
      const ids: number[] = [];
      for (let row = 0; row < place.length; row++) if (holds(place[row] as number)) ids.push(row + 1);
      return rangesOf(ids);
    };
    let byName: number[] | undefined;
    return {
      idsOf(key: string, test: Criteria): Ranges | undefined {
        if (test.kind === 'test' && test.field === 'file' && test.value.type === 'text') {
          const wanted = fold(test.value.text);
          const contains = test.op === '~';
          return rowsWhere((at) => {
            const name = fold(files.name[at] as string);
            return contains ? name.includes(wanted) : name === wanted;
          });
        }
        const found = outside.idsOf(key, test);
        return found && rowsWhere((at) => files.placement[at] !== 0 && includes(found, files.placement[at] as number));
      },
      // The name is to a file what the subject is to a message.
      bySubject() {
        if (!byName) {
          const ranks = ranksOf(Array.from(place, (at) => fold(files.name[at] as string)));
          byName = Array.from(ranks, (_, row) => row).sort(
            (a, b) => (ranks[a] as number) - (ranks[b] as number) || a - b,
          );
          byName = byName.map((row) => row + 1);
        }
        return byName;
      },
    };
  }

  /** Takes over what was marked in an earlier state. */
  takeMarks(from: FilesView): void {
    const ids = new Set(from.markedFiles());
    const here: number[] = [];
    for (let row = 0; row < this.place.length; row++) if (ids.has(this.idOf(row))) here.push(row + 1);
    if (here.length > 0) this.rows.mark({ kind: 'ids', ids: here, on: true });
  }

  narrow(where: string, now: Date, window: ListWindow, filter: FileFilter): NarrowedFiles {
    this.filter = filter;
    const parsed = parseCriteria(where);
    if (parsed.ok) this.isOfMail = saysOfMessages(parsed.criteria);
    const key = `${filter.copy} ${filter.mailed} ${filter.place} ${this.isOfMail}`;
    const isOn = this.isFiltered || this.isOfMail;
    const passes = (row: number) => this.passesCopy(row) && this.passesMailed(row) && this.passesPlace(row);
    const mask = isOn ? Uint8Array.from(this.place, (_, row) => (passes(row) ? 1 : 0)) : undefined;
    const { rows, ...narrowed } = this.rows.narrow(where, now, window, mask && { key, mask });
    return {
      ...narrowed,
      senders: narrowed.senders.filter(({ address }) => address !== NOBODY),
      rows: rows.map((row) => this.shown(row)),
      keptMarked: this.keptMarked(),
      ...this.tallies(narrowed.where, now),
    };
  }

  /** Whether a file lies in a file space. */
  private isKept(row: number): boolean {
    return this.files.placement[this.place[row] as number] === 0;
  }

  private get isFiltered(): boolean {
    const { copy, mailed, place } = this.filter;
    return copy !== null || mailed !== null || place !== null;
  }

  private passesPlace(row: number): boolean {
    const { place } = this.filter;
    const isKept = this.isKept(row);
    return !(isKept && this.isOfMail) && (place === null || (place === 'space') === isKept);
  }

  /** What is asked of copies, or of how often mailed, no file of a file space answers. */
  private passesCopy(row: number): boolean {
    const { copy } = this.filter;
    if (copy !== null && this.isKept(row)) return false;
    return copy === null || COPIES[this.files.copy[this.place[row] as number] as number] === copy;
  }

  private passesMailed(row: number): boolean {
    const { mailed } = this.filter;
    if (mailed !== null && this.isKept(row)) return false;
    return mailed === null || MAILED[mailedCode(this.times[row] as number)] === mailed;
  }

  /** Files by copies, by how often mailed and by where they lie, each under all other conditions, and without any. */
  private tallies(where: string, now: Date): Pick<NarrowedFiles, 'copies' | 'mailed' | 'places'> {
    const { mask } = this.rows.matching.maskOf(where, now);
    const copies = { now: emptyTally(COPIES.length), all: emptyTally(COPIES.length) };
    const mailed = { now: emptyTally(MAILED.length), all: emptyTally(MAILED.length) };
    const places = { now: emptyTally(FILE_PLACES.length), all: emptyTally(FILE_PLACES.length) };
    const { scope, columns } = this.rows;
    for (let row = 0; row < this.place.length; row++) {
      if (scope[row] === 0) continue;
      const isKept = this.isKept(row);
      const bytes = columns.size[row] as number;
      const copy = this.files.copy[this.place[row] as number] as number;
      const times = mailedCode(this.times[row] as number);
      const place = isKept ? 1 : 0;
      add(places.all, place, bytes);
      if (!isKept) add(copies.all, copy, bytes);
      if (!isKept) add(mailed.all, times, bytes);
      if (mask[row] === 0) continue;
      const [ofCopy, ofMailed] = [this.passesCopy(row), this.passesMailed(row)];
      if (ofCopy && ofMailed && !(isKept && this.isOfMail)) add(places.now, place, bytes);
      if (isKept || !this.passesPlace(row)) continue;
      if (ofMailed) add(copies.now, copy, bytes);
      if (ofCopy) add(mailed.now, times, bytes);
    }
    return { copies, mailed, places };
  }

  mark(marking: Marking): Marked {
    if (marking.kind === 'all') this.markedByFilter = this.isFiltered;
    return this.rows.mark(marking);
  }

  /** How the API is told which files are marked. */
  selector(): FileSelector {
    const { where, except } = this.rows.selector();
    const kept: number[] = [];
    const ids: number[] = [];
    let bytes = 0;
    let largest: number | undefined;
    for (const id of this.markedFiles()) {
      const row = this.rowOf(id);
      const size = this.rows.columns.size[row] as number;
      if (!this.isKept(row)) {
        ids.push(id);
        bytes += size;
        continue;
      }
      kept.push(-id);
      const isLarger = largest === undefined || size > (this.rows.columns.size[largest] as number);
      if (isLarger && this.files.kind[this.place[row] as number] === PICTURE) largest = row;
    }
    const shared = { expect: { files: ids.length, bytes }, kept, ...this.pictureAt(largest) };
    if (where !== undefined && except?.length === 0 && !this.markedByFilter) return { where, ...shared };
    return { ids, ...shared };
  }

  private pictureAt(row: number | undefined): Pick<FileSelector, 'keptPicture'> {
    if (row === undefined) return {};
    const name = this.files.name[this.place[row] as number] as string;
    return { keptPicture: { id: -this.idOf(row), name } };
  }

  private keptMarked(): { files: number; bytes: number } {
    let [files, bytes] = [0, 0];
    for (const id of this.rows.markedIds())
      if (this.isKept(id - 1)) {
        files++;
        bytes += this.rows.columns.size[id - 1] as number;
      }
    return { files, bytes };
  }

  private markedFiles(): number[] {
    return this.rows.markedIds().map((id) => this.idOf(id - 1));
  }

  /** The id of a file among the columns. */
  private idOf(row: number): number {
    return this.files.id[this.place[row] as number] as number;
  }

  /** Where else the same file was mailed, oldest first; itself among them. */
  alike(file: number): FileRow[] {
    const row = this.rowOf(file);
    const rows = row < 0 || this.isKept(row) ? [] : (this.sameAs.get(this.keyOf(row)) ?? [row]);
    return rows.map((each) => this.shown(this.rows.rowAt(each))).sort((a, b) => a.date - b.date || a.id - b.id);
  }

  /** Files of the same message, in their order. */
  besides(file: number): FileRow[] {
    const row = this.rowOf(file);
    if (row < 0 || this.isKept(row)) return [];
    const message = this.files.placement[this.place[row] as number];
    let first = row;
    while (first > 0 && this.files.placement[this.place[first - 1] as number] === message) first--;
    const found: FileRow[] = [];
    for (let each = first; each < this.place.length; each++) {
      if (this.files.placement[this.place[each] as number] !== message) break;
      found.push(this.shown(this.rows.rowAt(each)));
    }
    return found;
  }

  private rowOf(file: number): number {
    let [from, to] = [0, this.place.length];
    while (from < to) {
      const middle = (from + to) >>> 1;
      if (this.idOf(middle) < file) from = middle + 1;
      else to = middle;
    }
    return from < this.place.length && this.idOf(from) === file ? from : -1;
  }

  private shown(row: ListRow): FileRow {
    const index = rowOfId(this.rows.columns, row.id);
    const at = this.place[index] as number;
    const { id, size, date, name, address, folder, marked } = row;
    const isKept = this.isKept(index);
    return {
      ...{ id, size, date, author: isKept ? '' : name || address, folder, marked },
      place: isKept ? 'space' : 'mail',
      file: Math.abs(this.files.id[at] as number),
      message: this.files.placement[at] as number,
      name: this.files.name[at] as string,
      kind: FILE_KINDS[this.files.kind[at] as number] ?? 'other',
      copy: COPIES[this.files.copy[at] as number] ?? 'none',
      mailed: Math.max(1, this.times[index] as number),
    };
  }
}

/** What criteria can say of any file, wherever it lies. */
const OF_FILES = new Set<Field>(['size', 'age', 'date', 'received', 'file', 'kind', 'folder', 'under']);

/** Whether criteria say something of the messages of files, so that a file without one can't meet them. */
function saysOfMessages(criteria: Criteria): boolean {
  if (criteria.kind === 'flag') return true;
  if (criteria.kind === 'test') return !OF_FILES.has(criteria.field);
  if (criteria.kind === 'not') return saysOfMessages(criteria.of);
  return (criteria.kind === 'any' || criteria.kind === 'all') && criteria.of.some(saysOfMessages);
}

function emptyTally(length: number): Tally {
  return { messages: new Uint32Array(length), bytes: new Float64Array(length) };
}

function add({ messages, bytes }: Tally, code: number, octets: number): void {
  messages[code] = (messages[code] as number) + 1;
  bytes[code] = (bytes[code] as number) + octets;
}
