import assert from 'node:assert/strict';
import { readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { test } from 'node:test';
import { ImapFlow } from 'imapflow';
import { brokenContract, LIBRARY_VERSION, specialUseOfName } from './library';

const client = () =>
  new ImapFlow({ host: '127.0.0.1', port: 1, auth: { user: 'u', pass: 'p' }, logger: false, disableAutoIdle: true });

test('the client library is the one whose members are used here, and has them all', () => {
  const require = createRequire(import.meta.url);
  const installed = JSON.parse(readFileSync(require.resolve('imapflow/package.json'), 'utf8')).version;
  const wanted = JSON.parse(readFileSync('package.json', 'utf8')).dependencies.imapflow;
  assert.deepEqual([installed, wanted], [LIBRARY_VERSION, LIBRARY_VERSION]);
  assert.deepEqual(brokenContract(client()), []);
});

test('a member that is missing, or is something else, is named', () => {
  const changed = client() as unknown as Record<string, unknown>;
  changed.exec = undefined;
  changed.state = 'open';
  assert.deepEqual(brokenContract(changed as unknown as ImapFlow), ['state', 'exec']);
});

test('a folder’s name tells what it is for, in other languages too, and a longer one does not', () => {
  assert.equal(specialUseOfName('Papierkorb'), '\\Trash');
  assert.equal(specialUseOfName('Sent'), '\\Sent');
  assert.equal(specialUseOfName('Bees'), undefined);
});
