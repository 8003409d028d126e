import assert from 'node:assert/strict';
import { test } from 'node:test';
import { parseCriteria } from '../criteria/parse';
import { printCriteria } from '../criteria/print';
import type { Criteria } from '../criteria/tree';
import {
  GUARD_KINDS,
  type GuardKind,
  guardCriteria,
  keepsInTrash,
  mentionsGuarded,
  parseGuardCriteria,
} from './guards';

const parsed = (text: string): Criteria => {
  const result = parseCriteria(text);
  assert.ok(result.ok, text);
  return result.criteria;
};
const FOLDERS = { drafts: ['Drafts', 'Entwürfe'], sent: ['Sent'] };

test('each guard keeps what it says, as criteria that anybody can read', () => {
  const said = (kind: GuardKind, text = '', years: number | null = null, folders = FOLDERS) =>
    printCriteria(guardCriteria({ kind, criteria: parsed(text), years }, folders));
  assert.equal(said('flagged'), 'flagged');
  assert.equal(said('drafts'), '(draft or folder = Drafts or folder = Entwürfe) and age < 30d');
  assert.equal(said('correspondents'), 'folder = Sent and age < 1y');
  assert.equal(said('criteria', 'subject ~ lease'), 'subject ~ lease');
  assert.equal(said('hold', 'under = Committee', 3), 'under = Committee and age < 3y');
  assert.equal(said('hold', '', 10), 'age < 10y', 'a hold over everything is of everything that young');
  const bare = { drafts: [], sent: [] };
  assert.equal(said('drafts', '', null, bare), 'draft and age < 30d');
  // Without a sent folder nothing is known of correspondents, so nothing is kept by that, rather than everything.
  const nobody = guardCriteria({ kind: 'correspondents', criteria: parsed(''), years: null }, bare);
  assert.deepEqual(nobody, {
    kind: 'all',
    of: [{ kind: 'not', of: { kind: 'everything' } }, parsed('age < 1y')],
  });
});

test('in the trash keep flags, criteria and holds; drafts and correspondents do not', () => {
  assert.deepEqual(
    GUARD_KINDS.filter((kind) => keepsInTrash(kind)),
    ['flagged', 'criteria', 'hold'],
  );
});

test('criteria of a guard ask neither for guards nor for words that only the server finds', () => {
  assert.equal(parseGuardCriteria('size > 1 MB and not flagged').ok, true);
  assert.equal(parseGuardCriteria('guarded').ok, false);
  assert.equal(parseGuardCriteria('size > 1 and (flagged or not guarded)').ok, false);
  assert.equal(parseGuardCriteria('text ~ lease').ok, false);
});

test('an expression is searched to its depth for what guards keep', () => {
  for (const text of ['guarded', 'not guarded', 'size > 1 and guarded', 'seen or (flagged and not guarded)'])
    assert.equal(mentionsGuarded(parsed(text)), true, text);
  for (const text of ['', 'flagged', 'subject ~ guarded', 'seen or not (flagged and unseen)'])
    assert.equal(mentionsGuarded(parsed(text)), false, text);
});
