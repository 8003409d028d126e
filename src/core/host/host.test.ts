import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { writeSheetLines } from '../sheets/write';
import { excessOf, fillsOf, fullestShare, type Measurement, type Stated } from './figures';
import { fullOn } from './growth';
import { readMailboxSheet } from './sheet';
import { statesOf } from './state';

const NOW = new Date('2026-11-20T12:00:00Z');
const GIB = 2 ** 30;
const STATED: Stated = { bytes: null, messages: null, target: 0.8, leftOn: null, catchesAll: false };

function measured(part: Partial<Measurement>): Measurement {
  const none = { messages: 0, bytes: 0 };
  return {
    ...{ at: NOW, used: null, limit: null, messages: null, messageLimit: null },
    ...{ counted: { messages: 10, bytes: 5_000 }, inbox: { messages: 10, unseen: 0 }, trash: none, junk: none },
    ...part,
  };
}

function states(
  part: Partial<Measurement>,
  stated: Partial<Stated> = {},
  more: { unused?: boolean; refused?: boolean } = {},
) {
  const own = { ...STATED, ...stated };
  const fills = fillsOf(measured(part), own);
  const { unused = false, refused = false } = more;
  return statesOf({ now: NOW, fills, stated: own, full: fullOn(NOW, fills, null), unused, refused });
}

test('what the server says goes before what is stated, and what is counted comes last', () => {
  const stated = { ...STATED, bytes: 1_000, messages: 20 };
  const told = fillsOf(measured({ used: 700, limit: 2_000, messages: 9, messageLimit: 40 }), stated);
  assert.deepEqual(told.bytes, { used: 700, limit: 2_000, usedBy: 'server', limitBy: 'server' });
  assert.deepEqual(told.messages, { used: 9, limit: 40, usedBy: 'server', limitBy: 'server' });
  const own = fillsOf(measured({}), stated);
  assert.deepEqual(own.bytes, { used: 5_000, limit: 1_000, usedBy: 'counted', limitBy: 'stated' });
  assert.equal(own.notMail, null);
  const nothing = fillsOf(measured({ counted: { messages: 3, bytes: null } }), STATED);
  assert.equal(nothing.bytes, null, 'no quota and no sizes of folders: nothing is told, rather than nothing used');
  assert.equal(fullestShare(nothing), null);
  // RFC 9208 §5.1: STORAGE comes in units of 1024 octets.
  assert.equal(fillsOf(measured({ used: 5_120 }), STATED).notMail, 0);
  assert.equal(fillsOf(measured({ used: 7_168 }), STATED).notMail, 2_168);
});

test('a mailbox is full at its limit, almost full before it, and full by number where that is what fills it', () => {
  assert.deepEqual(states({ used: 2 * GIB, limit: 2 * GIB }), ['full']);
  assert.deepEqual(
    states({ used: 2 * GIB - 1_023, limit: 2 * GIB }),
    ['full'],
    'the last part of a unit takes no mail',
  );
  assert.deepEqual(states({ used: 2 * GIB - 1_024, limit: 2 * GIB }), ['almost-full']);
  assert.deepEqual(states({ used: GIB, limit: 2 * GIB }), ['fine']);
  assert.deepEqual(states({ used: 1.7 * GIB, limit: 2 * GIB }), ['above-target']);
  assert.deepEqual(states({ used: 0, limit: 0 }), ['full'], 'a limit of nothing takes nothing');
  assert.deepEqual(states({ used: GIB, limit: 2 * GIB, messages: 250_000, messageLimit: 250_000 }), ['full-by-number']);
  assert.deepEqual(states({ messages: 249_870, messageLimit: 250_000 }), ['almost-full']);
  assert.deepEqual(states({ used: GIB }, { leftOn: '2025-03-14' }, { unused: true }), ['left', 'unused']);
  assert.deepEqual(states({ used: GIB }, { catchesAll: true }, { unused: true }), ['fine']);
  assert.deepEqual(states({ used: GIB, limit: GIB }, {}, { refused: true }), ['full', 'not-signed-in']);
  const never = { now: NOW, fills: null, stated: STATED, full: null, unused: false };
  assert.deepEqual(statesOf({ ...never, refused: false }), ['not-measured']);
  assert.deepEqual(statesOf({ ...never, refused: true }), ['not-signed-in']);
});

test('the day it is full is that of the limit that comes first, and nothing is told of it before a week', () => {
  const fills = fillsOf(measured({ used: 900, limit: 1_000, messages: 50, messageLimit: 100 }), STATED);
  assert.equal(fullOn(NOW, fills, { bytes: 60, messages: 60, days: 6 }), null);
  assert.deepEqual(fullOn(NOW, fills, { bytes: 100, messages: 10, days: 10 }), {
    by: 'bytes',
    at: new Date('2026-11-30T12:00:00Z'),
  });
  assert.deepEqual(fullOn(NOW, fills, { bytes: 10, messages: 100, days: 10 }), {
    by: 'messages',
    at: new Date('2026-11-25T12:00:00Z'),
  });
  assert.equal(fullOn(NOW, fills, { bytes: 0, messages: 0, days: 60 }), null);
  const full = fillsOf(measured({ used: 1_000, limit: 1_000 }), STATED);
  assert.deepEqual(fullOn(NOW, full, null), { by: 'bytes', at: NOW });
});

test('what must go brings both figures down to the target and not further', () => {
  const amount = fc.nat(5_000_000_000);
  fc.assert(
    fc.property(
      amount,
      amount,
      amount,
      amount,
      fc.integer({ min: 1, max: 100 }),
      (used, limit, messages, most, percent) => {
        const target = percent / 100;
        const fills = fillsOf(measured({ used, limit, messages, messageLimit: most }), STATED);
        const over = excessOf(fills, target);
        assert.ok(used - over.bytes <= Math.max(limit * target, 0) || over.bytes === 0);
        assert.ok(over.bytes === 0 || used - over.bytes + 1 > limit * target - 1);
        assert.ok(messages - over.messages <= most * target || over.messages === 0);
      },
    ),
  );
});

test('a sheet of mailboxes says where each line is wrong, and what can be read is read', () => {
  const sheet = [
    'Address;Note;Server;Limit',
    'bees@marshnet.example;the bee keepers;;5 GiB',
    'hut@marshnet.example;;imap.marshnet.example;250,000 messages',
    'both@marshnet.example;;[2001:db8::1]:1143;1.5 GB and 1000 messages',
    ';no address;;',
    'two words@marshnet.example;;;',
    'port@marshnet.example;;host:99999;',
    'limit@marshnet.example;;;5 sheds',
    'zero@marshnet.example;;;0 GB',
    'BEES@marshnet.example;again;;',
    "'=cmd@marshnet.example;made harmless by a spreadsheet;;",
  ].join('\r\n');
  const { mailboxes, issues } = readMailboxSheet(sheet, 100);
  assert.deepEqual(
    mailboxes.map(({ line, address, server, bytes, messages }) => [line, address, server, bytes, messages]),
    [
      [2, 'bees@marshnet.example', null, 5 * GIB, null],
      [3, 'hut@marshnet.example', { host: 'imap.marshnet.example', port: null }, null, 250_000],
      [4, 'both@marshnet.example', { host: '[2001:db8::1]', port: 1143 }, 1_500_000_000, 1_000],
      [11, '=cmd@marshnet.example', null, null, null],
    ],
  );
  assert.deepEqual(
    issues.map(({ line, note }) => [line, note]),
    [
      [5, 'no-address'],
      [6, 'address-unreadable'],
      [7, 'server-unreadable'],
      [8, 'limit-unreadable'],
      [9, 'limit-unreadable'],
      [10, 'twice'],
    ],
  );
  assert.deepEqual(readMailboxSheet('name,limit\na,b', 10).issues, [{ line: 1, note: 'not-a-sheet', cell: 'address' }]);
  assert.equal(readMailboxSheet('', 10).issues[0]?.note, 'not-a-sheet');
  assert.equal(readMailboxSheet('address\n"never closed', 10).issues[0]?.note, 'unreadable');
  assert.equal(readMailboxSheet(`address\n${'a@b.example\n'.repeat(11)}`, 10).issues[0]?.note, 'too-many');
});

test('whatever is written into a sheet is read out of it again, and nothing takes longer than its length', () => {
  const name = fc.stringMatching(/^[a-z0-9.+=-]{1,30}$/);
  const note = fc.string({ maxLength: 60 }).map((text) => text.replace(/[\0]/g, '').trim());
  fc.assert(
    fc.property(fc.uniqueArray(fc.tuple(name, note), { maxLength: 30, selector: ([first]) => first }), (rows) => {
      const lines = rows.map(([user, said]) => [`${user}@marsh.example`, '', '', said]);
      const text = writeSheetLines([['address', 'server', 'limit', 'note'], ...lines]);
      const { mailboxes, issues } = readMailboxSheet(text, 100);
      assert.deepEqual(issues, []);
      assert.deepEqual(
        mailboxes.map(({ address, note: said }) => [address, said]),
        lines.map(([address, , , said]) => [address, said]),
      );
    }),
  );
  for (const long of [' '.repeat(100_000), `${'9'.repeat(50_000)} GiB`, 'a:'.repeat(50_000)])
    assert.equal(
      readMailboxSheet(`address,server,limit\na@b.example,${long},${long}`, 10).mailboxes.length,
      long.trim() === '' ? 1 : 0,
    );
});
