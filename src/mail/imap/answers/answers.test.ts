import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { countOf, printSequenceSet, type Ranges, rangesOf } from '../../../core/sets/ranges';
import { Dialogue, type Untagged } from '../channel/dialogue';
import { refusal } from '../channel/refusals';
import { ListingAnswer } from './listing';
import { OpenedAnswer } from './opened';
import { readQuota } from './quota';
import { SearchAnswer } from './search';

/** Gives responses to who takes them, and gives the dialogue with what it sent. */
function heard(
  responses: string,
  take: (response: Untagged, tag: string) => boolean,
  pieces: (string | Buffer)[] = ['X'],
) {
  const sent: string[] = [];
  const dialogue = new Dialogue({
    send: (octets) => sent.push(octets.toString('latin1')),
    pour: async () => undefined,
    sendsLiterals: () => false,
    unasked: () => undefined,
  });
  const command = dialogue.send({ pieces, patience: 1_000, take });
  dialogue.push(Buffer.from(responses, 'latin1'));
  return { command, dialogue, sent };
}

/** What a search finds; the fault where its answer is none. */
function found(responses: string, bounds = { messages: 1_000, uidNext: 2 ** 32 }): Ranges | 'fault' {
  const answer = new SearchAnswer();
  const { command } = heard(`${responses}T1 OK\r\n`, (response, tag) => answer.take(response, tag));
  if (command.problem) return 'fault';
  try {
    return answer.ended(bounds);
  } catch {
    return 'fault';
  }
}

const uids = fc.uniqueArray(fc.integer({ min: 1, max: 4_294_967_295 }), { maxLength: 200 });

test('a set is read from SEARCH and from ESEARCH (RFC 4731 §3.1), and is refused where any of it is wrong', () => {
  fc.assert(
    fc.property(uids, (numbers) => {
      const set = rangesOf(numbers);
      const count = countOf(set);
      const rising = [...numbers].sort((a, b) => a - b);
      const all = count > 0 ? ` ALL ${printSequenceSet(set)}` : '';
      assert.deepEqual(found(`* SEARCH${rising.map((uid) => ` ${uid}`).join('')}\r\n`), set);
      assert.deepEqual(found(`* ESEARCH (TAG "T1") UID${all} COUNT ${count}\r\n`), set);
      assert.equal(found(`* ESEARCH (TAG "T1") UID${all} COUNT ${count + 1}\r\n`), 'fault');
      assert.equal(found(`* ESEARCH (TAG "T2") UID${all} COUNT ${count}\r\n`), 'fault');
      if (count > 0) {
        assert.equal(found(`* ESEARCH (TAG "T1") UID${all}\r\n`), 'fault');
        assert.equal(
          found(`* ESEARCH (TAG "T1") UID${all} COUNT ${count}\r\n`, { messages: count - 1, uidNext: 2 ** 32 }),
          'fault',
        );
        assert.equal(
          found(`* SEARCH ${rising.join(' ')}\r\n`, { messages: 1_000, uidNext: rising.at(-1) ?? 0 }),
          'fault',
        );
      }
    }),
  );
  for (const wrong of [
    '',
    '* SEARCH 2 1\r\n',
    '* SEARCH 0\r\n',
    '* SEARCH 4294967296\r\n',
    '* SEARCH one\r\n',
    '* ESEARCH (TAG "T1") UID ALL 1:4294967295 COUNT 4294967295\r\n',
    '* ESEARCH (TAG "T1") UID ALL 1:3,2:4 COUNT 6\r\n',
    '* ESEARCH (TAG "T1") UID ALL 1:* COUNT 5\r\n',
    `* SEARCH${' 7'.repeat(600_000)}\r\n`,
  ])
    assert.equal(found(wrong), 'fault', wrong.slice(0, 60));
});

test('folders with their figures, after the example of RFC 5819 §3, names in all forms, and what is no answer', () => {
  const read = (responses: string) => {
    const answer = new ListingAnswer();
    const { command } = heard(`${responses}T1 OK\r\n`, (response) => answer.take(response));
    return command.problem ? undefined : answer;
  };
  const example = read(
    '* LIST () "." "INBOX"\r\n* STATUS "INBOX" (MESSAGES 17 UIDVALIDITY 3 UIDNEXT 20)\r\n* LIST (\\NoSelect) "." "bar"\r\n',
  );
  assert.deepEqual([...(example?.names.keys() ?? [])], ['INBOX', 'bar']);
  assert.deepEqual(example?.statuses.get('INBOX'), {
    messages: 17,
    uidValidity: 3,
    uidNext: 20,
    bytes: null,
    modSeq: null,
  });
  const names = read('* LIST () NIL inbox\r\n* LIST () "/" {3}\r\na"b\r\n* LIST () "/" "q\\"\\\\"\r\n');
  assert.deepEqual([...(names?.names.keys() ?? [])], ['INBOX', 'a"b', 'q"\\']);
  for (const wrong of [
    '* LIST\r\n',
    '* LIST () "//" x\r\n',
    '* LIST () "/" {3}\r\na\0b\r\n',
    '* STATUS x (MESSAGES)\r\n',
    '* STATUS x (UIDNEXT 1)\r\n',
  ])
    assert.equal(read(wrong), undefined, wrong);
});

test('a folder is open only with EXISTS and UIDVALIDITY (RFC 9051 §6.3.2); a quota has its units (RFC 9208 §4.1)', () => {
  const opened = (responses: string, code = '') => {
    const answer = new OpenedAnswer();
    const { command } = heard(`${responses}T1 OK ${code}\r\n`, (response) => answer.take(response));
    assert.ok(command.status);
    return answer.ended(command.status);
  };
  assert.deepEqual(
    opened('* 172 EXISTS\r\n* OK [UIDVALIDITY 3857529045] x\r\n* OK [UIDNEXT 4392] x\r\n', '[READ-ONLY] x'),
    {
      messages: 172,
      uidValidity: 3_857_529_045,
      uidNext: 4_392,
      modSeq: null,
      readOnly: true,
    },
  );
  assert.throws(() => opened('* 172 EXISTS\r\n'));
  assert.throws(() => opened('* OK [UIDVALIDITY 1] x\r\n'));
  let quota: ReturnType<typeof readQuota> | undefined;
  heard('* QUOTA "" (STORAGE 10 512 MESSAGE 5 9)\r\n', ({ cursor }) => {
    quota = readQuota(cursor);
    return true;
  });
  assert.deepEqual(quota, { name: '', storage: { used: 10_240, limit: 524_288 }, messages: { used: 5, limit: 9 } });
});

test('a literal waits until the server asks for it, and is dropped where it refuses the command (RFC 9051 §4.3)', () => {
  const pieces = ['SEARCH TEXT ', Buffer.from('größe'), ' UNSEEN'];
  const asked = heard('+ go on\r\nT1 OK\r\n', () => false, pieces);
  assert.deepEqual(asked.sent, ['T1 SEARCH TEXT {7}\r\n', `${Buffer.from('größe').toString('latin1')} UNSEEN\r\n`]);
  const refused = heard('T1 NO never\r\n', () => false, pieces);
  assert.equal(refused.sent.length, 1);
  refused.dialogue.send({ pieces: ['NOOP'], patience: 1 });
  assert.deepEqual(refused.sent.slice(1), ['T2 NOOP\r\n']);
});

test('refusals without a code are told by the words of general servers', () => {
  const kind = (words: string, code = '') => refusal({ code, words }).kind;
  assert.equal(kind('Over quota'), 'no-room');
  assert.equal(kind('You exceeded your mail quota.', 'ALERT'), 'no-room');
  assert.equal(kind('Quota exceeded (mailbox for user is full)'), 'no-room');
  assert.equal(kind('Permission denied'), 'read-only');
  assert.equal(kind('Mailbox does not exist, or must be subscribed to.'), 'folder-gone');
  assert.equal(kind('There is something else'), 'command-refused');
  assert.match(refusal({ code: '', words: 'Not today' }).message, /“Not today”/);
});
