import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { sampleColumns, sampleFiles, sampleKept } from '../../test/column-samples';
import { filesFromArrow, filesToArrow, withKeptFiles } from '../core/columns/file-columns';
import { criteriaToMask } from '../core/columns/mask';
import { parseCriteria } from '../core/criteria/parse';
import { COPIES } from '../core/files/copies';
import { FILE_KINDS } from '../core/files/kinds';
import { FilesView } from './files-view';
import { FILE_PLACES, type FileFilter, MAILED } from './protocol';

const NOW = new Date('2026-11-25T00:00:00Z');
const TWO_YEARS_AGO = Date.parse('2024-11-25T00:00:00Z') / 1000;
const messages = sampleColumns(900, 3, 20);
const inMail = sampleFiles(messages, 3);
const kept = sampleKept(60, 5);
const files = withKeptFiles(inMail, kept);
const TRASH = new Set(['Folder 2']);
const outside = { idsOf: () => [], bySubject: () => undefined };
const view = () => new FilesView(files, messages, 'UTC', TRASH, outside, NOW);
const list = { order: 'size', descending: true, first: 0, count: 10_000 } as const;

/** A file and its message, said plainly. */
const plain = Array.from({ length: files.length }, (_, at) => {
  const place = files.placement[at] === 0 ? 'space' : 'mail';
  const row = place === 'space' ? -1 : messages.id.indexOf(files.placement[at] as number);
  const folder = place === 'space' ? files.folder[at] : messages.dictionaries.folder[messages.folder[row] as number];
  return {
    ...{ place, folder: folder as string, changed: files.changed[at] as number },
    ...{ at, row, id: files.id[at] as number, size: files.size[at] as number, name: files.name[at] as string },
    kind: FILE_KINDS[files.kind[at] as number] as string,
    copy: COPIES[files.copy[at] as number] as string,
    inTrash: TRASH.has(folder as string),
  };
}).filter(({ inTrash }) => !inTrash);

const timesOf = ({ size, kind, name }: (typeof plain)[number]) =>
  plain.filter(
    (other) =>
      other.place === 'mail' &&
      other.size === size &&
      other.kind === kind &&
      other.name.toLowerCase() === name.toLowerCase(),
  ).length;
const times = new Map(plain.map((file) => [file.id, file.place === 'space' ? 1 : timesOf(file)]));
const mailedOf = (id: number) => {
  const count = times.get(id) ?? 0;
  return count === 1 ? 'once' : count <= 3 ? 'few' : 'many';
};

/** Conditions over files, with what each means of one. */
const TESTS: [string, (file: (typeof plain)[number]) => boolean][] = [
  ['', () => true],
  ['size > 100 kB', ({ size }) => size > 100_000],
  ['kind = picture', ({ kind }) => kind === 'picture'],
  ['file ~ twin', ({ name }) => name === 'Twin.jpg'],
  ['not (file = "twin.jpg" or kind = film)', ({ name, kind }) => name !== 'Twin.jpg' && kind !== 'film'],
  ['age > 2y', ({ row, changed }) => (row < 0 ? changed < TWO_YEARS_AGO : ofMessage('age > 2y', row))],
  ['under = "files.example/Plans"', ({ folder }) => folder.startsWith('files.example/Plans')],
  ['from ~ post1', ({ row }) => row >= 0 && ofMessage('from ~ post1', row)],
  // What says something of messages is met by no file without one, whatever it says.
  ['not from ~ post1', ({ row }) => row >= 0 && !ofMessage('from ~ post1', row)],
  ['unseen or size > 100 kB', (file) => file.row >= 0 && ofMessageOrSize(file)],
];

function ofMessageOrSize(file: { row: number; size: number }): boolean {
  return ofMessage('unseen', file.row) || file.size > 100_000;
}

function ofMessage(where: string, row: number): boolean {
  const parsed = parseCriteria(where);
  assert.ok(parsed.ok);
  return criteriaToMask(parsed.criteria, messages, { now: NOW, timeZone: 'UTC', outside: new Map() })[row] === 1;
}

test('files narrow by criteria, copies and how often they were mailed as their plain meaning does; marks name just these', () => {
  fc.assert(
    fc.property(
      fc.constantFrom(...TESTS),
      fc.constantFrom(null, ...COPIES),
      fc.constantFrom(null, ...MAILED),
      fc.constantFrom(null, ...FILE_PLACES),
      fc.boolean(),
      ([where, holds], copy, mailed, place, descending) => {
        const filter: FileFilter = { copy, mailed, place };
        const open = view();
        const narrowed = open.narrow(where, NOW, { ...list, descending }, filter);
        const wanted = plain.filter((file) => holds(file) && passes(file, { copy, mailed, place }));
        const bytes = wanted.reduce((sum, { size }) => sum + size, 0);
        assert.deepEqual(narrowed.total, { messages: wanted.length, bytes });
        assert.deepEqual(
          narrowed.rows.map((row) => (row.place === 'space' ? -row.file : row.file)).sort((a, b) => a - b),
          wanted.map(({ id }) => id).sort((a, b) => a - b),
        );
        const sizes = narrowed.rows.map(({ size }) => size);
        assert.deepEqual(
          sizes,
          sizes.toSorted((a, b) => (descending ? b - a : a - b)),
        );
        assert.ok(
          narrowed.senders.every(({ address }) => address.includes('@')),
          'nobody is no sender',
        );
        for (const row of narrowed.rows) assert.equal(row.mailed, row.place === 'space' ? 1 : times.get(row.file));
        const tally = (filters: FileFilter[]) =>
          filters.map((one) => plain.filter((file) => holds(file) && passes(file, one)).length);
        assert.deepEqual(
          [...narrowed.copies.now.messages],
          tally(COPIES.map((each) => ({ copy: each, mailed, place }))),
        );
        assert.deepEqual(
          [...narrowed.places.now.messages],
          tally(FILE_PLACES.map((each) => ({ copy, mailed, place: each }))),
        );
        open.mark({ kind: 'all' });
        const { where: said, ids, expect, kept: there, keptPicture } = open.selector();
        const mailedOnes = wanted.filter((file) => file.place === 'mail');
        assert.deepEqual(expect, {
          files: mailedOnes.length,
          bytes: mailedOnes.reduce((sum, { size }) => sum + size, 0),
        });
        assert.deepEqual(
          there,
          wanted.filter((file) => file.place === 'space').map(({ id }) => -id),
        );
        const pictures = wanted.filter((file) => file.place === 'space' && file.kind === 'picture');
        const most = Math.max(...pictures.map(({ size }) => size));
        assert.equal(
          keptPicture?.id,
          pictures.length === 0 ? undefined : -(pictures.find(({ size }) => size === most)?.id as number),
        );
        if (copy === null && mailed === null && place === null) assert.equal(said, where);
        else
          assert.deepEqual(
            ids,
            mailedOnes.map(({ id }) => id),
          );
      },
    ),
    { numRuns: 120 },
  );
});

/** What is asked of copies, and of how often something was mailed, no file of a file space answers. */
function passes(file: (typeof plain)[number], { copy, mailed, place }: FileFilter): boolean {
  const isKept = file.place === 'space';
  return (
    (copy === null || (!isKept && file.copy === copy)) &&
    (mailed === null || (!isKept && mailedOf(file.id) === mailed)) &&
    (place === null || file.place === place)
  );
}

test('what is marked stays marked when files come and go, and a file knows its like and those beside it', () => {
  const before = view();
  before.narrow('', NOW, list, { copy: null, mailed: null, place: null });
  before.mark({ kind: 'range', first: 0, last: 20, on: true });
  const fewer = sampleColumns(900, 3, 20);
  const after = new FilesView(files, fewer, 'UTC', TRASH, outside, NOW);
  after.takeMarks(before);
  assert.deepEqual(after.selector().ids, before.selector().ids);
  const twin = plain.find(({ name, place }) => name === 'Twin.jpg' && place === 'mail');
  const alike = after.alike(twin?.id ?? 0);
  assert.equal(alike.length, times.get(twin?.id ?? 0));
  const beside = after.besides(twin?.id ?? 0).map(({ file }) => file);
  assert.deepEqual(
    beside,
    plain.filter(({ row }) => row === twin?.row).map(({ id }) => id),
  );
  const names = after.narrow(
    '',
    NOW,
    { ...list, order: 'subject', descending: false },
    { copy: null, mailed: null, place: null },
  ).rows;
  const folded = names.map(({ name }) => name.toLowerCase());
  assert.deepEqual(folded, folded.toSorted());
});

test('files are the same after the wire', () => {
  assert.deepEqual(filesFromArrow(filesToArrow(files)), files);
  const none = { ...files, length: 0, name: [], folder: [] };
  for (const column of ['id', 'placement', 'size', 'kind', 'copy', 'changed'] as const)
    Object.assign(none, { [column]: files[column].slice(0, 0) });
  assert.equal(filesFromArrow(filesToArrow(none)).length, 0);
});

test('a mailbox without messages, and one without files, open and narrow to nothing', () => {
  const empty = sampleColumns(0, 1);
  for (const columns of [empty, messages]) {
    const open = new FilesView(sampleFiles(empty), columns, 'UTC', TRASH, outside, NOW);
    const { total, rows } = open.narrow('kind = picture', NOW, list, { copy: null, mailed: null, place: null });
    open.mark({ kind: 'all' });
    assert.deepEqual([total, rows, open.selector().expect.files], [{ messages: 0, bytes: 0 }, [], 0]);
  }
});
