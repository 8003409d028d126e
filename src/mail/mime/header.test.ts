import assert from 'node:assert/strict';
import { test } from 'node:test';
import { readHeader } from './header';
import { parameterOf } from './parameter';

test('fields are unfolded (RFC 5322 §2.2.3), known in any case, and of a repeated one the first counts', () => {
  const header = [
    'References: <a@b.example>\r\n\t<c@d.example>\r\n  junk <e@f.example>',
    'LIST-ID: The list\r\n <News.House.Example>',
    'list-unsubscribe: <https://one.example>',
    'List-Unsubscribe: <https://two.example>',
    'Precedence : bulk',
    'Subject: not asked for',
    ': no name',
    'no colon at all',
    'Auto-Submitted:',
    '',
  ].join('\r\n');
  assert.deepEqual(readHeader(header), {
    references: ['<a@b.example>', '<c@d.example>', '<e@f.example>'],
    listId: 'news.house.example',
    bulkFields: { 'list-unsubscribe': '<https://one.example>', precedence: 'bulk', 'auto-submitted': '' },
  });
  assert.deepEqual(readHeader('\r\n'), { references: [], listId: '', bulkFields: {} });
  assert.deepEqual(readHeader(''), { references: [], listId: '', bulkFields: {} });
  assert.equal(readHeader('Precedence: list').bulkFields.precedence, 'list', 'the last line may have no end');
  assert.equal(
    readHeader('Precedence: list\nFeedback-ID: 7\n').bulkFields['feedback-id'],
    '7',
    'bare line feeds end lines too',
  );
});

test('a list’s identifier is what stands in brackets at the end, else all of the field (RFC 2919 §3)', () => {
  for (const [field, id] of [
    ['<a.example>', 'a.example'],
    ['Words <A.Example>  ', 'a.example'],
    ['=?utf-8?q?W=C3=B6rter?= <a.example>', 'a.example'],
    ['a.example', 'a.example'],
    ['<a.example> trailing', '<a.example> trailing'],
    ['<>', '<>'],
  ] as const)
    assert.equal(readHeader(`List-Id: ${field}\r\n`).listId, id, field);
  assert.equal(readHeader(`List-Id: <${'x'.repeat(400)}>\r\n`).listId.length, 255);
});

test('a line of any length costs its beginning, and no more', () => {
  const long = readHeader(`List-Post: ${'x'.repeat(100_000)}\r\nPrecedence: bulk\r\n`);
  assert.ok((long.bulkFields['list-post']?.length ?? 0) < 8_000);
  assert.equal(long.bulkFields.precedence, 'bulk');
});

/** Examples of RFC 2231 §3, §4 and §4.1, their hosts renamed. */
test('parameters are read plain, extended, in pieces, and mixed', () => {
  const of = (...pairs: [string, string][]) => parameterOf(new Map(pairs), 'name');
  assert.equal(parameterOf(null, 'name'), '');
  assert.equal(of(['other', 'x']), '');
  assert.equal(of(['name', 'plain.pdf']), 'plain.pdf');
  assert.equal(of(['name', '=?utf-8?q?gr=C3=BC=C3=9Fe.pdf?=']), 'grüße.pdf');
  assert.equal(of(['name', 'plain.pdf'], ['name*', "utf-8'en'%e2%82%ac.pdf"]), '€.pdf', 'the extended one counts');
  assert.equal(of(['name*', "iso-8859-1'de'gr%FC%DFe"]), 'grüße');
  assert.equal(of(['name*', 'no quotes%20here']), 'no quotes here');
  assert.equal(of(['name*0', 'ftp://'], ['name*1', 'cs.example/pub']), 'ftp://cs.example/pub');
  const mixed = of(
    ['name*0*', "us-ascii'en'This%20is%20even%20more%20"],
    ['name*1*', '%2A%2A%2Afun%2A%2A%2A%20'],
    ['name*2', "isn't it 100%!"],
  );
  assert.equal(mixed, "This is even more ***fun*** isn't it 100%!");
  assert.equal(of(['name*0', 'a'], ['name*2', 'c']), 'a', 'a piece that is missing ends it');
});
