import type { Entity } from '../message/entity';
import { verbatim } from './compose';

/** Messages as real mailboxes have them and no program should write them; `n` makes each differ. */
export const ODDITIES: ((n: number) => Entity)[] = [
  (n) => verbatim(`From: \nTo: secretary@saltmarshlane.example\nSubject: no author ${n}`, 'Who am I?\n'),
  (n) => verbatim(`To: secretary@saltmarshlane.example\nSubject: nothing but a subject ${n}`, ''),
  (n) =>
    verbatim(
      `Date: Thu, 31 Feb 2019 25:61:00 +0000\nFrom: clock@attic.example\nSubject: an impossible date ${n}`,
      'Tick.\n',
    ),
  (n) =>
    verbatim(
      `Date: Sat, 1 Jan 2157 00:00:00 +0000\nFrom: clock@attic.example\nSubject: from the future ${n}`,
      'Tock.\n',
    ),
  (n) =>
    verbatim(
      `Date: Mon, 3 Jun 2019 10:00:00 +0200\nFrom: =?utf-8?B?Sm9yZGlz4oC?= <half@attic.example>\nSubject: =?utf-8?Q?cut_in_a_=C3?= ${n}`,
      'Half a letter.\n',
    ),
  (n) =>
    verbatim(
      `Date: Mon, 3 Jun 2019 10:00:00 +0200\nFrom: =?x-unknown-charset?Q?Na=EFve?= <old@attic.example>\nSubject: =?iso-8859-1?Q?caf=E9_au_lait?= ${n}`,
      'An old charset.\n',
    ),
  (n) =>
    verbatim(
      `Date: Mon, 3 Jun 2019 10:00:00 +0200\nFrom: "raw octets \xe9\xe8" <raw@attic.example>\nSubject: raw octets \xe4\xf6\xfc ${n}`,
      'Eight bits \xe4 in the body.\n',
    ),
  (n) =>
    verbatim(
      `Date: Mon, 3 Jun 2019 10:00:00 +0200\nFrom: <script>alert(1)</script>@attic.example\nSubject: <img src=x onerror=alert(${n})>`,
      '<script>alert(1)</script>\n',
    ),
  (n) =>
    verbatim(
      `Date: Mon, 3 Jun 2019 10:00:00 +0200\nFrom: a@attic.example, b@attic.example\nTo: undisclosed-recipients:;\nSubject: two authors ${n}`,
      'Both of us.\n',
    ),
  (n) =>
    verbatim(
      `Date: Mon, 3 Jun 2019 10:00:00 +0200\nFrom: parts@attic.example\nSubject: unclosed parts ${n}\nMIME-Version: 1.0\nContent-Type: multipart/mixed; boundary="gone"`,
      'There is no boundary here.\n',
    ),
  (n) =>
    verbatim(
      `Date: Mon, 3 Jun 2019 10:00:00 +0200\nFrom: =?utf-8?B?${Buffer.from('Jördis').toString('base64')}?= <folded@attic.example>\nSubject: =?utf-8?B?${Buffer.from('Überlänge, ').toString('base64')}?=\n =?utf-8?B?${Buffer.from('zwei Wörter').toString('base64')}?= ${n}`,
      'Folded.\n',
    ),
  (n) =>
    verbatim(
      `Date: Mon, 3 Jun 2019 10:00:00 +0200\nFrom: =?utf-8?B?${Buffer.from('千代').toString('base64')}?= <chiyo@attic.example>\nSubject: =?iso-2022-jp?B?GyRCODUbKEI=?= ${n}`,
      'Another script.\n',
    ),
  (n) =>
    verbatim(
      `Date: Mon, 3 Jun 2019 10:00:00 +0200\nFrom: \u202e@attic.example\nSubject: ${'long '.repeat(600)}${n}`.replace(
        '\u202e',
        '\xe2\x80\xae',
      ),
      'A subject of three thousand letters.\n',
    ),
];
