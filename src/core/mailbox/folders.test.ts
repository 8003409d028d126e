import assert from 'node:assert/strict';
import { test } from 'node:test';
import {
  type FolderRole,
  freeFolders,
  repeatsMail,
  roleOfUse,
  trashFolder,
  trashFolders,
  withSubfolders,
} from './folders';
import { roleOf } from './roles';

const folder = (path: string, role: FolderRole | null = null, repeats = false) => ({ path, role, repeats });
const paths = (folders: { path: string }[]) => folders.map(({ path }) => path);

const TREE = [
  folder('INBOX', 'inbox'),
  folder('Bin', 'trash'),
  folder('Bin/2019'),
  folder('Binoculars'),
  folder('Bin/All', null, true),
  folder('Junk', 'junk'),
  folder('Sync/Conflicts'),
  folder('Conflict'),
  folder('Conflicting views'),
  folder('Spam view', 'junk', true),
];

test('special uses of RFC 6154 §2 give roles, in any case; views repeat mail', () => {
  for (const [use, role] of [
    ['\\Sent', 'sent'],
    ['\\TRASH', 'trash'],
    ['\\Archive', 'archive'],
    ['\\All', null],
    ['\\Flagged', null],
    [undefined, null],
  ] as const)
    assert.equal(roleOfUse(use), role, `${use}`);
  assert.equal(repeatsMail(['\\HasNoChildren', '\\ALL']), true);
  assert.equal(repeatsMail(['\\Flagged']), true);
  assert.equal(repeatsMail(['\\Allowed', '\\Important', '\\Trash']), false);
  assert.equal(repeatsMail([]), false);
});

test('the trash is the folder that a person named, else the one with the role, and what lies below it', () => {
  assert.deepEqual(paths(trashFolders(TREE, null)), ['Bin', 'Bin/2019']);
  assert.deepEqual(paths(trashFolders(TREE, 'Conflict')), ['Conflict']);
  assert.deepEqual(paths(trashFolders(TREE, 'Nowhere')), ['Bin', 'Bin/2019'], 'a folder that is gone names none');
  assert.deepEqual(trashFolders([folder('INBOX', 'inbox')], null), []);
  assert.equal(trashFolder([folder('INBOX', 'inbox')], null), undefined);
  assert.deepEqual(paths(withSubfolders(TREE, 'Bin')), ['Bin', 'Bin/2019'], 'neither a namesake nor a view');
});

test('junk and conflict copies cost no decision; views and namesakes do', () => {
  assert.deepEqual(paths(freeFolders(TREE)), ['Junk', 'Sync/Conflicts', 'Conflict']);
});

test('what the server marks is so; then what a person chose; then what the name tells', () => {
  const none = new Set<FolderRole>();
  const named = { path: 'Müll', role: null, proposed: 'trash' as const };
  assert.deepEqual(roleOf({ ...named, role: 'junk' }, { trash: 'Müll' }, none), { role: 'junk', by: 'server' });
  assert.deepEqual(roleOf(named, null, none), { role: 'trash', by: 'name' });
  assert.equal(roleOf(named, null, new Set(['trash'])), null, 'the server marks another');
  assert.deepEqual(roleOf(named, { sent: 'Müll' }, none), { role: 'sent', by: 'user' });
  assert.equal(roleOf(named, { trash: null }, none), null, 'a person said that there is none');
  assert.equal(roleOf(named, {}, none), null, 'once a person has said, names say nothing');
  assert.equal(roleOf(named, { trash: 'Müll' }, new Set(['trash'])), null, 'the server marks another');
  assert.equal(roleOf({ path: 'Post', role: null, proposed: null }, null, none), null);
});
