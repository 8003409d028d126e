import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { sampleColumns, sampleFiles } from '../../test/column-samples';
import { filesFromArrow, filesToArrow } from '../core/columns/file-columns';
import { criteriaToMask } from '../core/columns/mask';
import { parseCriteria } from '../core/criteria/parse';
import { COPIES } from '../core/files/copies';
import { FILE_KINDS } from '../core/files/kinds';
import { FilesView } from './files-view';
import { type FileFilter, MAILED } from './protocol';

const NOW = new Date('2026-11-25T00:00:00Z');
const messages = sampleColumns(900, 3, 20);
const files = sampleFiles(messages, 3);
const TRASH = new Set(['Folder 2']);
const outside = { idsOf: () => [], bySubject: () => undefined };
const view = () => new FilesView(files, messages, 'UTC', TRASH, outside, NOW);
const list = { order: 'size', descending: true, first: 0, count: 10_000 } as const;

/** A file and its message, said plainly. */
const plain = Array.from({ length: files.length }, (_, at) => {
  const row = messages.id.indexOf(files.placement[at] as number);
  return {
    ...{ at, row, id: files.id[at] as number, size: files.size[at] as number, name: files.name[at] as string },
    kind: FILE_KINDS[files.kind[at] as number] as string,
    copy: COPIES[files.copy[at] as number] as string,
    inTrash: TRASH.has(messages.dictionaries.folder[messages.folder[row] as number] as string),
  };
}).filter(({ inTrash }) => !inTrash);

const timesOf = ({ size, kind, name }: (typeof plain)[number]) =>
  plain.filter((other) => other.size === size && other.kind === kind && other.name.toLowerCase() === name.toLowerCase())
    .length;
const times = new Map(plain.map((file) => [file.id, timesOf(file)]));
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
  ['age > 2y', ({ row }) => ofMessage('age > 2y', row)],
  ['from ~ post1', ({ row }) => ofMessage('from ~ post1', row)],
];

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
      fc.boolean(),
      ([where, holds], copy, mailed, descending) => {
        const filter: FileFilter = { copy, mailed };
        const open = view();
        const narrowed = open.narrow(where, NOW, { ...list, descending }, filter);
        const wanted = plain.filter(
          (file) =>
            holds(file) && (copy === null || file.copy === copy) && (mailed === null || mailedOf(file.id) === mailed),
        );
        const bytes = wanted.reduce((sum, { size }) => sum + size, 0);
        assert.deepEqual(narrowed.total, { messages: wanted.length, bytes });
        assert.deepEqual(
          narrowed.rows.map(({ file }) => file).sort((a, b) => a - b),
          wanted.map(({ id }) => id).sort((a, b) => a - b),
        );
        const sizes = narrowed.rows.map(({ size }) => size);
        assert.deepEqual(
          sizes,
          sizes.toSorted((a, b) => (descending ? b - a : a - b)),
        );
        for (const row of narrowed.rows) assert.equal(row.mailed, times.get(row.file));
        const copies = COPIES.map((each) => wantedBy(holds, each, mailed).length);
        assert.deepEqual([...narrowed.copies.now.messages], copies);
        open.mark({ kind: 'all' });
        const { where: said, ids, expect } = open.selector();
        assert.deepEqual(expect, { files: wanted.length, bytes });
        if (copy === null && mailed === null) assert.equal(said, where);
        else
          assert.deepEqual(
            ids,
            wanted.map(({ id }) => id),
          );
      },
    ),
    { numRuns: 120 },
  );
});

function wantedBy(holds: (typeof TESTS)[number][1], copy: string, mailed: string | null) {
  return plain.filter((file) => holds(file) && file.copy === copy && (mailed === null || mailedOf(file.id) === mailed));
}

test('what is marked stays marked when files come and go, and a file knows its like and those beside it', () => {
  const before = view();
  before.narrow('', NOW, list, { copy: null, mailed: null });
  before.mark({ kind: 'range', first: 0, last: 20, on: true });
  const fewer = sampleColumns(900, 3, 20);
  const after = new FilesView(files, fewer, 'UTC', TRASH, outside, NOW);
  after.takeMarks(before);
  assert.deepEqual(after.selector().ids, before.selector().ids);
  const twin = plain.find(({ name }) => name === 'Twin.jpg');
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
    { copy: null, mailed: null },
  ).rows;
  const folded = names.map(({ name }) => name.toLowerCase());
  assert.deepEqual(folded, folded.toSorted());
});

test('files are the same after the wire', () => {
  assert.deepEqual(filesFromArrow(filesToArrow(files)), files);
  const none = { ...files, length: 0, name: [] };
  for (const column of ['id', 'placement', 'size', 'kind', 'copy'] as const)
    Object.assign(none, { [column]: files[column].slice(0, 0) });
  assert.equal(filesFromArrow(filesToArrow(none)).length, 0);
});

test('a mailbox without messages, and one without files, open and narrow to nothing', () => {
  const empty = sampleColumns(0, 1);
  for (const columns of [empty, messages]) {
    const open = new FilesView(sampleFiles(empty), columns, 'UTC', TRASH, outside, NOW);
    const { total, rows } = open.narrow('kind = picture', NOW, list, { copy: null, mailed: null });
    open.mark({ kind: 'all' });
    assert.deepEqual([total, rows, open.selector().expect.files], [{ messages: 0, bytes: 0 }, [], 0]);
  }
});
