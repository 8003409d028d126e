import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { fileKind } from '../files/kinds';
import { Threads } from '../threads/threads';
import { type Category, judge } from './categories';
import { type SignSource, signsOf } from './signs';

const ME = new Set(['secretary@saltmarshlane.example']);

function categoryOf(
  source: Partial<SignSource>,
  known: { own?: boolean; written?: boolean; corrected?: Category } = {},
) {
  const signs = signsOf(
    {
      bulkFields: {},
      listId: '',
      authorAddress: 'odile@marchbanks.example',
      recipients: [{ address: 'secretary@saltmarshlane.example' }],
      subject: 'Hedge laying',
      files: [],
      ...source,
    },
    ME,
  );
  return judge({
    signs,
    own: known.own ?? false,
    written: known.written ?? false,
    corrected: known.corrected ?? null,
  });
}

test('field values of the forms that the standards give as examples are read as these mean them', () => {
  // RFC 2369 §3.4, List-Post: a list to write to, and one where posting is not allowed.
  assert.equal(categoryOf({ bulkFields: { 'list-post': '<mailto:list@host.example>' } }).category, 'lists');
  const announcements = {
    'list-post': 'NO (posting not allowed on this list)',
    'list-unsubscribe': '<mailto:list@host.example?subject=unsubscribe>',
  };
  assert.equal(categoryOf({ bulkFields: announcements, listId: 'list.host.example' }).category, 'mailings');
  // RFC 2919 §3: List-Id alone.
  assert.equal(categoryOf({ listId: 'list-header.nisto.example' }).category, 'lists');
  // RFC 8058 §6: a mailing that is left with one click.
  const oneClick = {
    'list-unsubscribe':
      '<mailto:listrequest@host.example?subject=unsubscribe>, <https://host.example/unsubscribe.html/opaque>',
    'list-unsubscribe-post': 'List-Unsubscribe=One-Click',
  };
  assert.deepEqual(categoryOf({ bulkFields: oneClick }), { category: 'mailings', reasons: ['listUnsubscribe'] });
  // RFC 3834 §5: auto-generated and auto-replied are by a program, no is not.
  for (const [value, category] of [
    ['auto-generated', 'automatic'],
    ['auto-replied; owner-email="me@host.example"', 'automatic'],
    ['no', 'letters'],
    ['No ; why', 'letters'],
  ] as const)
    assert.equal(categoryOf({ bulkFields: { 'auto-submitted': value } }).category, category, value);
  // RFC 3464 §2: the part that makes a report of delivery.
  const report = [{ type: 'message/delivery-status', name: '' }];
  assert.equal(categoryOf({ files: report, authorAddress: 'mailer-daemon@host.example' }).category, 'automatic');
  // RFC 6047 §2.4: an invitation.
  assert.equal(categoryOf({ files: [{ type: 'text/calendar', name: 'invite.ics' }] }).category, 'invitations');
});

test('a record takes a document, the number of a transaction, and a sender of many; a letter shows none of that', () => {
  const invoice = {
    authorAddress: 'no-reply@fenwater.example',
    subject: 'Your invoice INV-20931',
    files: [{ type: 'application/pdf', name: 'invoice.pdf' }],
  };
  assert.deepEqual(categoryOf(invoice), { category: 'records', reasons: ['document', 'reference', 'noReply'] });
  assert.equal(categoryOf({ ...invoice, files: [] }).category, 'automatic');
  assert.equal(categoryOf({ ...invoice, authorAddress: 'odile@marchbanks.example' }).category, 'letters');
  assert.deepEqual(categoryOf({}).reasons, ['noSign', 'alone']);
});

test('weak signs yield where the user writes to that address; what the user says is stronger than any', () => {
  assert.equal(categoryOf({ bulkFields: { precedence: 'bulk' } }).category, 'mailings');
  assert.equal(categoryOf({ bulkFields: { precedence: 'bulk' } }, { written: true }).category, 'letters');
  assert.equal(
    categoryOf({ bulkFields: { 'auto-submitted': 'auto-generated' } }, { written: true }).category,
    'automatic',
  );
  assert.equal(categoryOf({ authorAddress: 'secretary@saltmarshlane.example' }).category, 'own');
  assert.equal(categoryOf({}, { own: true }).category, 'own');
  assert.deepEqual(categoryOf({}, { own: true, corrected: 'automatic' }), {
    category: 'automatic',
    reasons: ['corrected'],
  });
});

test('a file is told by its type, and by its name where the type says nothing', () => {
  for (const [type, name, kind] of [
    ['image/jpeg', '', 'picture'],
    ['application/octet-stream', 'flight.MOV', 'film'],
    ['application/pdf', 'x.jpg', 'document'],
    ['application/vnd.openxmlformats-officedocument.spreadsheetml.sheet', '', 'table'],
    ['application/vnd.openxmlformats-officedocument.wordprocessingml.document', '', 'document'],
    ['application/zip', '', 'archive'],
    ['message/rfc822', '', 'message'],
    ['text/calendar', '', 'calendar'],
    ['application/octet-stream', '', 'other'],
  ] as const)
    assert.equal(fileKind(type, name), kind, `${type} ${name}`);
});

test('threads join by the identifiers that messages name (RFC 5256), even through one that is not here', () => {
  const threads = new Threads();
  const nodes: number[] = [];
  const add = (messageId: string, references: string[] = [], inReplyTo = '') =>
    nodes.push(threads.add({ messageId, references, inReplyTo }));
  add('<1@x.example>');
  add('<3@x.example>', ['<1@x.example>', '<2@x.example>']);
  add('<9@x.example>');
  add('<4@x.example>', [], '<2@x.example>');
  add('');
  add('');
  add('<8@x.example>', ['<9@x.example>']);
  const found = nodes.map((node, index) => threads.threadOf(node, index + 1));
  assert.deepEqual(found, [1, 1, 3, 1, 5, 6, 3]);
});

test('threads are the parts that hang together in the graph of names, for any mailbox', () => {
  const names = fc.integer({ min: 0, max: 400 }).map((number) => `<${number}@x.example>`);
  const message = fc.record({
    messageId: fc.oneof(names, fc.constant('')),
    references: fc.array(names, { maxLength: 3 }),
    inReplyTo: fc.oneof(names, fc.constant('')),
  });
  fc.assert(
    fc.property(fc.array(message, { maxLength: 300 }), (messages) => {
      const threads = new Threads();
      // Asked for in between as well, which changes nothing in the end.
      const nodes = messages.map((each, index) => {
        const node = threads.add(each);
        if (index % 3 > 0) assert.ok(threads.threadOf(node, index + 1) <= index + 1);
        return node;
      });
      // Plain meaning: what is named in one message is one, again and again until nothing changes.
      const sets = messages.map(({ messageId, references, inReplyTo }, index) => {
        const named = [messageId, ...references, inReplyTo].filter(Boolean);
        return { first: index, named: new Set(named.length > 0 ? named : [`alone ${index}`]) };
      });
      for (let changed = true; changed; ) {
        changed = false;
        const firstOf = new Map<string, number>();
        for (const { first, named } of sets)
          for (const name of named) firstOf.set(name, Math.min(first, firstOf.get(name) ?? first));
        for (const set of sets) {
          const least = Math.min(...[...set.named].map((name) => firstOf.get(name) as number));
          if (least < set.first) {
            set.first = least;
            changed = true;
          }
        }
      }
      assert.deepEqual(
        nodes.map((node, index) => threads.threadOf(node, index + 1)),
        sets.map(({ first }) => first + 1),
      );
    }),
    { numRuns: 100 },
  );
});
