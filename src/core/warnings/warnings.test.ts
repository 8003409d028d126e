import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { fold } from '../text';
import { authenticityOf, type Field } from '../unsubscribe/authenticity';
import { agrees, figuresIn } from './figures';
import { judgeWarning } from './judge';
import { SAYS_FULL } from './words';

const OWN = { host: 'imap.example.com', user: 'ann@example.com' };
const FULL = { used: 1.93e9, limit: 2e9 };

const maySayFull = (folded: string) => SAYS_FULL.every((words) => new RegExp(words).test(folded));

test('subjects that say it are found in many languages, and others are not', () => {
  const saying = [
    'Your mailbox is almost full',
    'Quota warning: 95% used',
    'Ihr Postfach ist fast voll',
    'Speicherplatz überschritten',
    'Votre boîte mail est presque pleine',
    'Votre messagerie a dépassé son quota',
    'Su buzón está casi lleno',
    'La tua casella di posta è quasi piena',
    'Je postvak is bijna vol',
    'Twoja skrzynka jest pełna',
    'Sua caixa de correio está quase cheia',
    'Din brevlåda är nästan full',
    'Ваш почтовый ящик переполнен',
    'メールボックスの容量が上限に達しました',
    '您的邮箱已满',
  ];
  for (const subject of saying) assert.ok(maySayFull(fold(subject)), subject);
  for (const subject of ['Full moon walk', 'Minutes of the meeting', 'The hut is full', 'Your mailbox password', ''])
    assert.ok(!maySayFull(fold(subject)), subject);
});

test('figures are read as they are written in several countries', () => {
  assert.deepEqual(figuresIn('uses 96 % of its storage').shares, [0.96]);
  assert.deepEqual(figuresIn('75.5% full, 1,9 Go sur 2 Go').shares, [0.755]);
  assert.deepEqual(figuresIn('1,9 Go sur 2 Go').octets, [1.9e9, 2e9]);
  assert.deepEqual(figuresIn('1,953 MB of 2,000 MB').octets, [1_953e6, 2_000e6], 'thousands');
  assert.deepEqual(figuresIn('0,953 GB').octets, [0.953e9]);
  assert.deepEqual(figuresIn('512 MiB').octets, [512 * 2 ** 20]);
  assert.deepEqual(figuresIn('since 2026-11-20, 5 messages and 7 Bananas'), { shares: [], octets: [] });
  // Of a text that never ends only the beginning is looked at.
  assert.deepEqual(figuresIn('9'.repeat(5_000_000)), { shares: [], octets: [] });
  assert.equal(figuresIn('1 % '.repeat(1_000_000)).shares.length, 20);
});

test('a figure agrees where it is near what the server said, in either kind of units', () => {
  assert.equal(agrees(figuresIn('96 % used'), FULL), true);
  assert.equal(agrees(figuresIn('99.9 % used'), FULL), false);
  assert.equal(agrees(figuresIn('1.93 GB'), FULL), true);
  assert.equal(agrees(figuresIn('1.8 GB'), FULL), true, '1.8 GiB, written as GB');
  assert.equal(agrees(figuresIn('0.5 GB of 2 GB'), FULL), false);
  assert.equal(agrees(figuresIn('please read'), FULL), null);
});

/** Of RFC 8601 appendix B: B.3 (one method), B.5 (several), and a header that the own host did not write. */
const HEADERS: Record<string, Field[]> = {
  passed: [
    ['authentication-results', 'example.com; spf=pass smtp.mailfrom=example.net; dkim=pass header.d=example.com'],
    ['received', 'from mail-router.example.net by server.example.com'],
    ['from', 'postmaster@example.com'],
  ],
  failed: [
    ['authentication-results', 'example.com; dkim=fail header.d=example.com; dmarc=fail header.from=example.com'],
    ['received', 'from mail-router.example.net by server.example.com'],
    ['from', 'postmaster@example.com'],
  ],
  forged: [
    ['received', 'from mail-router.example.net by server.example.com'],
    ['authentication-results', 'example.net; dkim=pass header.d=example.com'],
    ['from', 'postmaster@example.com'],
  ],
};

function judged(header: string, text: string, links: string[] = [], from = 'postmaster@example.com', inJunk = false) {
  const fields = (HEADERS[header] as Field[]).map(([name, body]): Field => [name, name === 'from' ? from : body]);
  const authenticity = authenticityOf(fields, from, undefined, OWN);
  return judgeWarning({ from, authenticity, isRead: true, links, figures: figuresIn(text), inJunk }, FULL, OWN);
}

test('only what the host signed, with its figure and no link elsewhere, comes from the host (RFC 8601)', () => {
  assert.deepEqual(judged('passed', '96 % used').signs, ['own-domain', 'proven', 'figure-agrees']);
  assert.equal(judged('passed', '96 % used').verdict, 'genuine');
  assert.equal(judged('passed', 'nearly full', ['https://help.example.com/quota']).verdict, 'genuine', 'its own pages');
  assert.equal(judged('passed', '99.9 % used').verdict, 'not-genuine', 'the figure is another');
  const asks = judged('passed', '96 % used', [
    'https://example.com.mailbox-upgrade.test/x',
    'javascript:alert(1)',
    'not a link',
  ]);
  assert.deepEqual([asks.verdict, asks.foreign], ['not-genuine', ['example.com.mailbox-upgrade.test']]);
  assert.equal(judged('failed', '96 % used').verdict, 'not-genuine');
  assert.equal(judged('forged', '96 % used').verdict, 'unclear', 'anybody can write such a field below Received');
  assert.equal(judged('passed', '96 % used', [], 'postmaster@example.org').verdict, 'not-genuine');
  assert.equal(judged('passed', '96 % used', [], 'postmaster@example.com', true).verdict, 'not-genuine');
  assert.equal(judged('passed', '96 % used', [], '').verdict, 'not-genuine', 'it names no sender');
});

test('nothing hostile is genuine, and nothing breaks the judge', () => {
  fc.assert(
    fc.property(fc.string(), fc.array(fc.oneof(fc.string(), fc.webUrl())), fc.string(), (text, links, from) => {
      const { verdict, foreign } = judged('passed', text, links, from);
      assert.ok(foreign.length <= 5);
      if (!/@(.*\.)?example\.com$/i.test(from)) assert.notEqual(verdict, 'genuine');
    }),
  );
});
