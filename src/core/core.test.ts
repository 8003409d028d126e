import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { fileOf } from './files/file';
import { level, targetBytes } from './level/level';
import { domainOf } from './mailbox/email-address';
import { folderTree, readablePath } from './mailbox/folders';
import { fold, oneLine, storable } from './text';

test('case folding is full folding; values of CaseFolding.txt from memory', () => {
  for (const [one, other] of [
    ['Straße', 'STRASSE'],
    ['ẞ', 'ss'],
    ['ΟΔΥΣΣΕΥΣ', 'οδυσσευς'],
    ['ﬁle', 'FILE'],
    ['Å', 'a\u030a'],
    ['Ǆ', 'ǆ'],
  ] as const) {
    assert.equal(fold(one), fold(other), `${one} and ${other}`);
  }
  assert.notEqual(fold('ı'), fold('i'));
  fc.assert(fc.property(fc.string({ unit: 'grapheme' }), (text) => fold(fold(text)) === fold(text)));
});

test('whatever a header holds becomes storable and one line', () => {
  assert.equal(storable('a\0b\ud800'), 'a\ufffdb\ufffd');
  assert.equal(oneLine(' a\r\n\tb\u0007c\u2028d '), 'a b c d');
  // UAX #9: marks that turn the direction around are shown, letters of either direction are left alone.
  assert.equal(oneLine('invoice\u202efdp.exe'), 'invoice\ufffdfdp.exe');
  assert.equal(oneLine('\u2066a\u2069 \u05d0\u200f'), '\ufffda\ufffd \u05d0\u200f');
});

test('registrable domains by the Public Suffix List (publicsuffix.org, its test data)', () => {
  assert.equal(domainOf('a@www.example.com'), 'example.com');
  assert.equal(domainOf('a@b.c.kobe.jp'), 'b.c.kobe.jp');
  assert.equal(domainOf('a@city.kobe.jp'), 'city.kobe.jp');
  assert.equal(domainOf('a@mail.post.example'), 'post.example');
  assert.equal(domainOf('a@[192.0.2.1]'), '[192.0.2.1]');
  assert.equal(domainOf('nobody'), '');
});

test('paths read with slashes and without the namespace, unless that would be ambiguous', () => {
  assert.equal(readablePath('INBOX.Archive.2019', '.', 'INBOX.'), 'Archive/2019');
  assert.equal(readablePath('inbox', '.', 'INBOX.'), 'INBOX');
  assert.equal(readablePath('INBOX.and/or', '.', 'INBOX.'), 'INBOX.and/or');
  assert.equal(readablePath('INBOX.inbox', '.', 'INBOX.'), 'INBOX.inbox');
  assert.equal(readablePath('INBOX.a\0b', '.', 'INBOX.'), 'a\ufffdb');
});

test('a tree adds every folder up into its parents', () => {
  const level = fc.constantFrom('a', 'b', 'c');
  const paths = fc.uniqueArray(
    fc.array(level, { minLength: 1, maxLength: 4 }).map((levels) => levels.join('/')),
    { maxLength: 20 },
  );
  fc.assert(
    fc.property(paths, (all) => {
      const folders = all.map((path, index) => ({ path, messages: index + 1, bytes: (index + 1) * 1000 }));
      const visit = (nodes: ReturnType<typeof folderTree>) => {
        for (const node of nodes) {
          const below = folders.filter(({ path }) => path === node.path || path.startsWith(`${node.path}/`));
          assert.equal(
            node.messages,
            below.reduce((sum, { messages }) => sum + messages, 0),
          );
          visit(node.children);
        }
      };
      visit(folderTree(folders));
    }),
  );
});

test('the level splits the server’s figure, and says where the server counts less', () => {
  const parts = {
    limit: 1000,
    mail: { messages: 5, bytes: 500 },
    trash: { messages: 1, bytes: 100 },
    plan: { messages: 2, bytes: 150 },
  };
  const planAndTrash = { messages: 3, bytes: 250 };
  const more = level({ ...parts, used: 700, planAndTrash });
  assert.deepEqual([more.other, more.difference, more.after], [100, 0, 450]);
  const less = level({ ...parts, used: 550, planAndTrash });
  assert.deepEqual([less.other, less.difference, less.after], [0, -50, 300]);
  assert.equal(targetBytes({ share: 0.8 }, 1000), 800);
  assert.equal(targetBytes({ share: 0.8 }, null), null);
});

test('files are leaves that are named, attached, or no text to be read', () => {
  const named = (type: string, name = '', marked: string | null = null) => fileOf(type, name, marked)?.name;
  assert.equal(named('text/plain'), undefined);
  assert.equal(named('text/html', '', 'inline'), undefined);
  assert.equal(named('application/pdf', 'a.pdf'), 'a.pdf');
  assert.equal(named('text/plain', 'notes\r\n.txt', 'attachment'), 'notes .txt');
  assert.equal(named('message/rfc822'), '');
  assert.equal(named('application/ms-tnef', 'winmail.dat'), 'winmail.dat');
  // RFC 1847 §2.1, RFC 3156 §5, RFC 8551 §3.5.3.
  assert.equal(named('application/pgp-signature', 'signature.asc'), undefined);
  assert.equal(named('application/pkcs7-signature', 'smime.p7s', 'attachment'), undefined);
});
