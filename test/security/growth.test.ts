import assert from 'node:assert/strict';
import { test } from 'node:test';
import { parseCriteria } from '../../src/core/criteria/parse';
import { decodeModifiedUtf7, encodeModifiedUtf7 } from '../../src/core/mailbox/modified-utf7';
import { readSheet } from '../../src/core/senders/sheet';
import { parseSequenceSet } from '../../src/core/sets/ranges';
import { lostBy } from '../../src/core/sieve/loses';
import { fold, oneLine } from '../../src/core/text';
import { parseAuthenticationResults } from '../../src/core/unsubscribe/authentication-results';
import { authenticityOf } from '../../src/core/unsubscribe/authenticity';
import { parseMailto } from '../../src/core/unsubscribe/mailto';
import { waysOf } from '../../src/core/unsubscribe/ways';
import { textOfHtml } from '../../src/mail/html/html-to-text';
import { copiedUids } from '../../src/mail/imap/answers/copyuid';
import { readSet } from '../../src/mail/imap/answers/search';
import { Dialogue } from '../../src/mail/imap/channel/dialogue';
import { refusal } from '../../src/mail/imap/channel/refusals';
import { fetchCommand } from '../../src/mail/imap/fetch/bulk';
import { readRecord } from '../../src/mail/imap/fetch/record';
import { readStatus } from '../../src/mail/imap/wire/status';
import { readAuthor } from '../../src/mail/mime/author';
import { readHeader } from '../../src/mail/mime/header';

/**
 * Nothing that mail or a server writes may cost more than its length. Each shape is read at a length and at four times that:
 * what is linear takes four times as long, what is quadratic sixteen times. Only the ratio counts, so that no machine is too slow.
 */
const SHORT = 50_000;
const TIMES = 4;
/** Between four and sixteen. */
const MAX_GROWTH = 9;
/** Milliseconds below which a time is noise. */
const NOISE = 3;

/** The rest of a FETCH response, as a server may write it. */
function fetched(items: string): void {
  const dialogue = new Dialogue({
    send: () => undefined,
    pour: async () => undefined,
    sendsLiterals: () => true,
    unasked: () => undefined,
  });
  const fetch = { next: () => undefined, read: readRecord, passes: true, patience: 1_000 };
  dialogue.send(fetchCommand<{ uid: number }>({ text: '1:*', messages: 10 }, fetch, () => undefined));
  dialogue.push(Buffer.from(`* 1 FETCH (UID 1 FLAGS () RFC822.SIZE 9 ${items})\r\n`, 'latin1'));
}

const quoted = (text: string) => `{${Buffer.byteLength(text, 'latin1')}}\r\n${text}`;
const envelope = (fields: { subject?: string; name?: string; local?: string; date?: string; id?: string }) => {
  const { subject = 's', name = 'n', local = 'l', date = '1 Jan 2020', id = '<i@x.example>' } = fields;
  const from = `((${quoted(name)} NIL ${quoted(local)} "x.example"))`;
  fetched(`ENVELOPE (${quoted(date)} ${quoted(subject)} ${from} NIL NIL ${from} NIL NIL ${quoted(id)} ${quoted(id)})`);
};
const structure = (parameter: string, value: string) =>
  fetched(
    `BODYSTRUCTURE ("application" "pdf" (${quoted(parameter)} ${quoted(value)}) NIL NIL "base64" 9 NIL ("attachment" ("filename" ${quoted(value)})) NIL NIL)`,
  );
const fill = (unit: string, length: number) => unit.repeat(Math.ceil(length / unit.length));

/** Reads a text made of so many characters. */
const SHAPES: Record<string, (length: number) => unknown> = {
  'HTML: signs of tags': (n) => textOfHtml(fill('<', n)),
  'HTML: tags that never end': (n) => textOfHtml(fill('<a ', n)),
  'HTML: styles that never end': (n) => textOfHtml(fill('<style>', n)),
  'HTML: heads in heads': (n) => textOfHtml(fill('<head>', n)),
  'HTML: ends of what never began': (n) => textOfHtml(fill('<div></b>', n)),
  'HTML: comments that never end': (n) => textOfHtml(fill('<!--', n)),
  'HTML: entities without end': (n) => textOfHtml(fill('&amp', n)),
  'HTML: one entity': (n) => textOfHtml(`&${fill('a', n)}`),
  'HTML: blanks': (n) => textOfHtml(`a${fill(' ', n)}b`),
  'HTML: lines': (n) => textOfHtml(fill('<br>\n', n)),
  'HTML: attributes': (n) => textOfHtml(`<a ${fill('b="c" ', n)}`),
  'HTML: a quote that never ends': (n) => textOfHtml(fill('<a b="', n)),
  'status: a bracket that never closes': (n) => readStatus('OK', () => `[${fill('a', n)}`),
  'status: many brackets': (n) => readStatus('OK', () => fill('[', n)),
  'status: blanks': (n) => readStatus('NO', () => fill(' ', n)),
  'refusal: blanks': (n) => refusal({ code: '', words: fill(' ', n) }),
  'refusal: words': (n) => refusal({ code: '', words: fill('over quota ', n) }),
  'From: folded blanks': (n) => readAuthor(`From: a${fill('\r\n ', n)}<b@x.example`),
  'From: blanks': (n) => readAuthor(`From: "a${fill(' ', n)}`),
  'From: angle brackets': (n) => readAuthor(`From: ${fill('<', n)}`),
  'From: comments in comments': (n) => readAuthor(`From: ${fill('(', n)}`),
  'From: signs of at': (n) => readAuthor(`From: ${fill('a@', n)}`),
  'From: groups': (n) => readAuthor(`From: ${fill('a:;', n)}`),
  'From: quotes': (n) => readAuthor(`From: ${fill('"\\', n)}`),
  'From: commas': (n) => readAuthor(`From: ${fill('a,', n)}`),
  'header: lines without a colon': (n) => readHeader(fill('a\r\n', n)),
  'header: colons': (n) => readHeader(fill(':', n)),
  'header: folded lines': (n) => readHeader(`References: ${fill('\r\n ', n)}`),
  'header: carriage returns': (n) => readHeader(fill('\r', n)),
  'References: signs that open': (n) => readHeader(`References: ${fill('<', n)}\r\n`),
  'References: identifiers': (n) => readHeader(`References: ${fill('<a@b> ', n)}\r\n`),
  'List-Id: signs that open': (n) => readHeader(`List-Id: ${fill('<', n)}\r\n`),
  'List-Id: blanks at the end': (n) => readHeader(`List-Id: <a>${fill(' >', n)}x\r\n`),
  'encoded words that never end': (n) => envelope({ subject: fill('=?utf-8?Q?', n) }),
  'encoded words without text': (n) => envelope({ subject: fill('=?utf-8?Q??= ', n) }),
  'encoded words, and blanks between': (n) => envelope({ subject: `=?utf-8?B?YQ==?=${fill(' ', n)}=?utf-8?B?YQ==?=` }),
  'encoded words of an unknown charset': (n) => envelope({ subject: fill('=?x-none?B?YQ==?= ', n) }),
  'encoded words: question marks': (n) => envelope({ subject: fill('=?', n) }),
  'a name of quotes': (n) => envelope({ name: fill('"', n) }),
  'a name of encoded words': (n) => envelope({ name: fill('=?utf-8?Q?a_?=', n) }),
  'a local part of blanks': (n) => envelope({ local: fill(' ', n) }),
  'a date of digits': (n) => envelope({ date: fill('1', n) }),
  'a date of comments': (n) => envelope({ date: fill('(', n) }),
  'identifiers of blanks': (n) => envelope({ id: fill('\t ', n) }),
  'a file name, percent-encoded': (n) => structure('name*', `utf-8''${fill('%41', n)}`),
  'a file name of quotes': (n) => structure('name*', fill("'", n)),
  'a file name of encoded words': (n) => structure('name', fill('=?utf-8?Q?a?=', n)),
  'parts in parts': (n) => fetched(`BODYSTRUCTURE ${fill('(', n)}`),
  'many parameters': (n) => fetched(`BODYSTRUCTURE ("a" "b" (${fill('"c" "d" ', n)}) NIL NIL "7bit" 1)`),
  'a file name in pieces': (n) => {
    const pieces = Array.from({ length: Math.ceil(n / 16) }, (_, piece) => `"name*${piece}" "%41"`);
    fetched(`BODYSTRUCTURE ("a" "b" (${pieces.join(' ')}) NIL NIL "7bit" 1)`);
  },
  flags: (n) => fetched(`FLAGS (${fill('\\Seen a ', n)})`),
  'flags of brackets': (n) => fetched(`X (${fill('[', n)}`),
  'sets of ranges': (n) => [...readSet(fill('1:2,', n).slice(0, -1))],
  'sets of ranges, of a page': (n) => parseSequenceSet(fill('1,', n).slice(0, -1)),
  COPYUID: (n) => copiedUids({ code: 'COPYUID', details: `1 ${fill('1,', n)}1 ${fill('1,', n)}1` }, 10),
  'names of folders, from the wire': (n) => decodeModifiedUtf7(fill('&', n)),
  'names of folders, encoded': (n) => decodeModifiedUtf7(fill('&AOk-', n)),
  'names of folders, to the wire': (n) => encodeModifiedUtf7(fill('é&', n)),
  'one line out of controls': (n) => oneLine(fill('\u0001\u2028', n)),
  folding: (n) => fold(fill('Σß', n)),
  'criteria: brackets': (n) => parseCriteria(fill('(', n)),
  'criteria: words': (n) => parseCriteria(fill('a ', n)),
  'criteria: quotes': (n) => parseCriteria(fill('"', n)),
  'criteria: not': (n) => parseCriteria(fill('not ', n)),
  'how one leaves: URIs': (n) => waysOf(fill('<mailto:a@b.example>,', n), ''),
  'how one leaves: comments': (n) => waysOf(fill('(', n), ''),
  'how one leaves: a mail': (n) => parseMailto(`mailto:a@b.example?${fill('&subject=a', n)}`),
  'what a host says: comments': (n) => parseAuthenticationResults(fill('(', n)),
  'what a host says: results': (n) => parseAuthenticationResults(`a; ${fill('dkim=pass;', n)}`),
  'a signature of tags': (n) =>
    authenticityOf([['dkim-signature', fill('h=a;', n)]], 'a@b.example', undefined, OWN_HOST),
  'rules: brackets': (n) => lostBy(fill('{', n), []),
  'rules: not': (n) => lostBy(`if ${fill('not ', n)}`, []),
  'rules: texts': (n) => lostBy(fill('"a" ', n), []),
  'rules: comments': (n) => lostBy(fill('# a\n', n), []),
  'rules: texts of several lines': (n) => lostBy(fill('text:\n', n), []),
  'rules: commands': (n) => lostBy(fill('if true { discard; } else { keep; } ', n), []),
  'a sheet of quotes': (n) => swallowed(() => readSheet(fill('"', n))),
  'a sheet of separators': (n) => swallowed(() => readSheet(fill(';', n))),
  'a sheet of lines': (n) => swallowed(() => readSheet(fill('a,b\r\n', n))),
};

const OWN_HOST = { host: 'imap.b.example', user: 'a@b.example' };

/** A refusal is an answer too. */
function swallowed(act: () => unknown): void {
  try {
    act();
  } catch {}
}

/** The least that it took of a few times, in milliseconds of this process. */
function took(act: (length: number) => unknown, length: number, times: number): number {
  let least = Number.POSITIVE_INFINITY;
  for (let turn = 0; turn < times; turn++) {
    const before = process.cpuUsage();
    act(length);
    const { user, system } = process.cpuUsage(before);
    least = Math.min(least, (user + system) / 1000);
  }
  return least;
}

for (const [name, act] of Object.entries(SHAPES))
  test(`what is four times as long takes about four times as long: ${name}`, () => {
    const short = Math.max(NOISE, took(act, SHORT, 4));
    let long = took(act, TIMES * SHORT, 2);
    // What happened to be disturbed is measured again.
    for (let again = 0; again < 3 && long >= MAX_GROWTH * short; again++)
      long = Math.min(long, took(act, TIMES * SHORT, 2));
    assert.ok(long < MAX_GROWTH * short, `${long.toFixed(1)} ms, and ${short.toFixed(1)} ms for a quarter of it`);
  });
