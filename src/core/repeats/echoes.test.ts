import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { type Echo, echoesIn, type ThreadMessage } from './echoes';

const LETTER = `Dear all,

the frost has burst the water butt behind the shed, and the tap at plot 14 drips.
Who can lend a ladder on Saturday? The café keeps 2 keys.

Odile
-- 
Odile Marchbanks, plot 14
`;

const said = (id: number, text: string | string[], more: Partial<ThreadMessage> = {}): ThreadMessage => ({
  id,
  texts: [text].flat(),
  links: [],
  addresses: new Set(),
  files: [],
  ...more,
});
const quoted = (text: string, mark = '> ') => text.replace(/^/gm, mark);
const body = LETTER.slice(0, LETTER.indexOf('-- \n'));
/** Whether a letter stands in an answer. */
const isEcho = (answer: string | string[], more: Partial<ThreadMessage> = {}, own: Partial<ThreadMessage> = {}) =>
  echoesIn([said(1, LETTER, own), said(2, answer, more)]).length === 1;

test('a letter is quoted in full below an answer, above it, around it, and in any manner of marks', () => {
  const answers = {
    below: `I can.\n\nOn Monday Odile Marchbanks wrote:\n${quoted(LETTER)}`,
    above: `${quoted(LETTER)}\nI can.\n`,
    'without the signature': `I can.\n\nAm Montag schrieb Odile:\n${quoted(body)}`,
    'between two answers': `Yes.\n${quoted(body)}And no.\n`,
    'with bars': `I can.\n\nLe lundi, Odile a écrit :\n${quoted(body, '| ')}`,
    'several deep': `So can I.\n\nPiers wrote:\n> I can.\n>\n> Odile wrote:\n${quoted(body, '> > ')}`,
    'deep without blanks': `So can I.\n${quoted(body, '>>')}`,
    'below a line, without marks': `I can.\n\n-----\nFrom: Odile\nSubject: Frost\n\n${body}`,
    'wrapped anew': `I can.\n\n${quoted(body.replace(/\s+/g, ' ').replace(/(.{20,30}) /g, '$1\n'))}`,
    'wrapped behind the marks': `I can.\n\n${quoted(body).replace('behind the shed', 'behind\nthe shed')}`,
    'in capital letters and with other signs': `I can.\n\n${quoted(body.toUpperCase().replaceAll(',', ' –'))}`,
  };
  for (const [how, answer] of Object.entries(answers)) assert.ok(isEcho(answer), how);
});

test('what is not all of it, or is changed, or another, is no quotation', () => {
  const answers = {
    'a word less': quoted(body.replace('lend ', '')),
    'a word more': quoted(body.replace('a ladder', 'a long ladder')),
    'another word': quoted(body.replace('Saturday', 'Sunday')),
    'another number': quoted(body.replace('14', '41')),
    'another amount': quoted(body.replace('2 keys', '2 € keys')),
    'another order': quoted(body.replace('drips.\nWho', 'Who').concat('drips.')),
    'an answer between its lines': quoted(body).replace('> Who can', 'It does not.\n> I doubt it.\n> Who can'),
    'its beginning': quoted(body.slice(0, 120)),
    nothing: 'I can.\n',
  };
  for (const [how, answer] of Object.entries(answers)) assert.ok(!isEcho(`I can.\n\n${answer}`), how);
  assert.ok(!isEcho(LETTER), 'the same text is a copy, if anything');
  const withBee = (answer: string) => echoesIn([said(1, `${body}🐝`), said(2, answer)]).length === 1;
  assert.ok(withBee(`I can.\n${quoted(`${body}🐝`)}`));
  assert.ok(!withBee(`I can.\n${quoted(body)}🐌`), 'a picture among letters is a word');
  assert.deepEqual(
    echoesIn([said(1, 'Thank you!'), said(2, 'Not at all.\n> Thank you!\n')]),
    [],
    'so few words stand anywhere',
  );
  assert.deepEqual(echoesIn([said(1, []), said(2, LETTER)]), [], 'what has no text is quoted by nothing');
});

test('an answer between the lines of one that was not quoted whole before it is found by its quoted lines', () => {
  // Every line of the letter is there, with marks, and answers between them.
  const lines = quoted(body).split('\n');
  assert.ok(isEcho(lines.flatMap((line) => (line.endsWith('drips.') ? [line, 'I saw it.'] : [line])).join('\n')));
});

test('files, links and every alternative have to be there too', () => {
  const answer = `I can.\n\n${quoted(body)}`;
  assert.ok(!isEcho(answer, {}, { files: ['a'] }));
  assert.ok(!isEcho(answer, { files: ['a', 'b'] }, { files: ['a', 'a'] }), 'twice is twice');
  assert.ok(isEcho(answer, { files: ['b', 'a', 'a'] }, { files: ['a', 'a'] }));
  assert.ok(!isEcho(answer, {}, { links: ['https://shed.example/'] }));
  assert.ok(isEcho(answer, { addresses: new Set(['https://shed.example/']) }, { links: ['https://shed.example/'] }));
  const html = `${body} And the picture shows the tap.`;
  const both = (texts: string[]) => echoesIn([said(1, [LETTER, html]), said(2, texts)]).length === 1;
  assert.ok(!both([answer]), 'what the HTML says besides is quoted nowhere');
  assert.ok(both([answer, `I can. ${html} More.`]));
});

test('of a thread in which each quotes all before, the last holds all; so it is told in any number of messages', () => {
  fc.assert(
    fc.property(
      fc.array(fc.array(fc.stringMatching(/^[a-z]{3,8}$/), { minLength: 14, maxLength: 30 }), {
        minLength: 2,
        maxLength: 8,
      }),
      (letters) => {
        let before = '';
        const thread = letters.map((words, index) => {
          const text = `${index} ${words.join(' ')}\n${before === '' ? '' : quoted(before)}`;
          before = text;
          return said(index + 1, text);
        });
        const found = echoesIn(thread);
        const last = thread.length;
        for (let id = 1; id < last; id++)
          assert.ok(found.some(({ message, holder }: Echo) => message === id && holder === last));
        assert.ok(found.every(({ message, holder }) => message < holder));
      },
    ),
  );
});

test('no more is looked at than is said, however large a thread is', () => {
  const thread = (messages: number, words: number) =>
    Array.from({ length: messages }, (_, id) => said(id + 1, 'plum '.repeat(words + id)));
  assert.deepEqual(echoesIn(thread(20, 100_000)), [], 'so much text is no conversation');
  // Each is held by the next; what is not found for want of work is not told.
  assert.ok(echoesIn(thread(200, 7_000)).length < 199 * 3);
});
