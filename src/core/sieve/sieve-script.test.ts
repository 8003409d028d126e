import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { lostBy } from './loses';
import { folderNames, includedOwn, includingScript, rulesScript, withMarkedPart } from './script';
import { parseSieve, SieveSyntaxError } from './syntax';

/** The extended example of RFC 5228 §9, its domains under others' names. */
const EXTENDED = `#
# Example Sieve Filter
# Declare any optional features or extension used by the script
#
require ["fileinto"];

#
# Handle messages from known mailing lists
# Move messages from IETF filter discussion list to filter mailbox
#
if header :is "Sender" "owner-filters@lists.example"
        {
        fileinto "filter";  # move to "filter" mailbox
        }
#
# Keep all messages to or from people in my company
#
elsif address :DOMAIN :is ["From", "To"] "work.example"
        {
        keep;               # keep in "In" mailbox
        }

#
# Try and catch unsolicited email.  If a message is not to me,
# or it contains a subject known to be spam, file it away.
#
elsif anyof (NOT address :all :contains
               ["To", "Cc", "Bcc"] "me@work.example",
             header :matches "subject"
               ["*make*money*fast*", "*university*dipl*mas*"])
        {
        fileinto "spam";   # move to "spam" mailbox
        }
else
        {
        # Move all other (non-company) mail to "personal"
        # mailbox.
        fileinto "personal";
        }
`;

test('scripts are read as in RFC 5228, and what they throw away is told with its conditions', () => {
  const commands = parseSieve(EXTENDED);
  assert.deepEqual(
    commands.map(({ name, block }) => [name, block?.map(({ name: inner }) => inner) ?? null]),
    [
      ['require', null],
      ['if', ['fileinto']],
      ['elsif', ['keep']],
      ['elsif', ['fileinto']],
      ['else', ['fileinto']],
    ],
  );
  assert.deepEqual(lostBy(EXTENDED, ['Trash']), []);
  const [spam] = lostBy(EXTENDED, ['spam']) ?? [];
  assert.deepEqual(spam, {
    what: 'trash',
    folder: 'spam',
    when: [
      'not (Sender is “owner-filters@lists.example”)',
      'not (From or To is “work.example”)',
      'not (To or Cc or Bcc contains “me@work.example”) or subject looks like “*make*money*fast*” or “*university*dipl*mas*”',
    ],
  });
  // RFC 5228 §2.4.2.1: a text of several lines, with a dot that is doubled; and numbers with units (§2.4.1).
  const several = 'require "reject";\nif size :over 2M {\nreject text: # why\nToo\r\n..large\r\n.\n;\n}\ndiscard;\n';
  const [, condition] = parseSieve(several);
  assert.deepEqual(condition?.block?.[0]?.args, [{ kind: 'texts', texts: ['Too\r\n.large\r\n'] }]);
  assert.deepEqual(lostBy(several, []), [
    { what: 'reject', when: ['larger than 2097152 octets'] },
    { what: 'discard', when: [] },
  ]);
  for (const wrong of [
    'keep',
    'if true {',
    '"',
    'text:\nno end',
    '/* no end',
    'keep "\\',
    'if anyof (true, {',
    '\u0000',
  ])
    assert.equal(lostBy(wrong, []), undefined, wrong);
  assert.equal(lostBy('if '.concat('not '.repeat(5_000), 'true { discard; }'), []), undefined, 'nested without end');
  fc.assert(
    fc.property(fc.string({ unit: fc.constantFrom(...'keep if{}()[];,"\\:text\n.#/*2K') }), (text) => {
      try {
        parseSieve(text);
      } catch (error) {
        assert.ok(error instanceof SieveSyntaxError);
      }
    }),
  );
});

test('a marked part is put behind require, replaced whole, and taken out without a trace', () => {
  const rules = [{ label: 'one', test: 'true', folders: ['A'] }];
  for (const script of [
    EXTENDED,
    EXTENDED.replaceAll('\n', '\r\n'),
    'keep;',
    '',
    '# nothing\n',
    'require "fileinto"; keep;',
  ]) {
    const marked = withMarkedPart(script, rules);
    const names = parseSieve(marked).map(({ name }) => name);
    assert.ok(names.lastIndexOf('require') < names.findIndex((name) => name !== 'require'), script);
    assert.equal(withMarkedPart(marked, []), script, 'taken out');
    assert.equal(withMarkedPart(marked, rules), marked, 'replaced');
  }
  // A mark that somebody has taken away, or doubled: nothing between the others is thrown away.
  const marked = withMarkedPart('keep;', rules);
  for (const broken of [marked.replace(/#.*begin.*/, ''), marked.replace(/#.*end --/, ''), marked + marked])
    assert.throws(() => withMarkedPart(broken, rules), SieveSyntaxError);
  assert.equal(includedOwn(includingScript('own "x"')), 'own "x"');
  assert.equal(includedOwn(includingScript(null)), null);
  for (const changed of ['keep;', `${includingScript('own')}discard;`, 'if {', rulesScript(rules)])
    assert.equal(includedOwn(changed), undefined, changed);
});

test('a rule has each name that the server may know its folder by, and files by the one that exists', () => {
  const named = (name: string, extensions: string[], implementation = '') =>
    folderNames(name, { extensions, implementation });
  assert.deepEqual(named('Plain/a', ['mailbox']), ['Plain/a']);
  assert.deepEqual(named('Größe', ['mailbox']), ['Größe', 'Gr&APYA3w-e']);
  assert.deepEqual(named('R&D', [], 'Cyrus timsieved 3.6.1'), ['R&-D']);
  assert.deepEqual(named('R&D', [], 'Pigeonhole'), ['R&D']);
  const script = rulesScript([{ label: 'x', test: 'true', folders: ['R&D', 'R&-D'] }]);
  assert.match(script, /^require \["fileinto", "mailbox"\];/m);
  assert.match(
    script,
    /if true \{ if mailboxexists "R&D" \{ fileinto "R&D"; stop; \} elsif mailboxexists "R&-D" \{ fileinto "R&-D"; stop; \} \}/,
  );
});
