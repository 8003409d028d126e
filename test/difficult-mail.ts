import { createHash } from 'node:crypto';

/** A message that is hard to cut, and the files that can be taken out of it. */
export interface DifficultMessage {
  subject: string;
  octets: Buffer;
  /** Why it is left as it is; undefined where its files can go. */
  left?: 'signed' | 'encrypted' | 'malformed' | 'alternative' | 'no-gain';
}

const CRLF = '\r\n';

/** Octets that no two of a name share, in lines of base64. */
function base64(name: string, length: number): string {
  const octets = Buffer.alloc(length);
  let block = createHash('sha256').update(name).digest();
  for (let at = 0; at < length; at += 32) {
    block.copy(octets, at);
    block = createHash('sha256').update(block).digest();
  }
  return octets.toString('base64').replace(/.{76}/g, `$&${CRLF}`);
}

const file = (header: readonly string[], body: string) => [...header, '', body].join(CRLF);
const attached = (name: string, length = 3_000) =>
  file(
    [
      `Content-Type: image/jpeg; name="${name}"`,
      'Content-Transfer-Encoding: base64',
      `Content-Disposition: attachment; filename="${name}"`,
    ],
    base64(name, length),
  );
const text = file(['Content-Type: text/plain; charset=us-ascii'], 'Here they are.\r\n\r\n-- \r\nOdile');
const multipart = (boundary: string, parts: readonly string[], { preamble = '', epilogue = '' } = {}) =>
  `${preamble}${parts.map((part) => `--${boundary}${CRLF}${part}${CRLF}`).join('')}--${boundary}--${epilogue}`;

function message(subject: string, header: readonly string[], body: string): string {
  return [
    'Received: from post.quorn.example by host.mail.example',
    '\twith ESMTP; Tue, 4 May 2021 08:09:10 +0000',
    'From: "Marchbanks, Odile" <odile@quorn.example>',
    'To: secretary@saltmarshlane.example',
    `Subject: ${subject}`,
    `Message-ID: <${createHash('md5').update(subject).digest('hex')}@quorn.example>`,
    'Date: Tue, 04 May 2021 10:09:00 +0200',
    'MIME-Version: 1.0',
    ...header,
    '',
    body,
  ].join(CRLF);
}

/** Mail in which parts are hard to tell: built by the rules of RFC 2045 to 2047, 2231 and 1847, and against them. */
export function difficultMail(): DifficultMessage[] {
  const made: (Omit<DifficultMessage, 'octets' | 'subject'> & { subject: string; raw: string })[] = [
    {
      subject: 'a multipart inside another, with a preamble and epilogues',
      raw: nested('a multipart inside another, with a preamble and epilogues', '=_a', 'no part either', ''),
    },
    {
      subject: 'boundaries that begin alike',
      left: 'malformed',
      raw: nested('boundaries that begin alike', '=_b=_inner', '', '--=_bogus'),
    },
    {
      subject: 'names in pieces and percent-encoded',
      raw: message(
        'names in pieces and percent-encoded',
        ['Content-Type: multipart/mixed;', '\tboundary=simple'],
        multipart('simple', [
          text,
          file(
            [
              'CONTENT-TYPE: application/pdf (a plan);',
              " name*0*=utf-8''Lageplan%20der%20G%C3%A4rten%20-%20;",
              ' name*1="sehr lang ";',
              ' name*2="und lang.pdf"',
              'content-transfer-encoding: BASE64',
            ],
            base64('pieces', 4_000),
          ),
          file(
            [
              'Content-Type: image/png; name="=?utf-8?B?U29tbWVyZmVzdC5wbmc=?="',
              'Content-Disposition: inline; filename="=?utf-8?Q?Sommerfest=2Epng?="',
              'Content-Transfer-Encoding: base64',
            ],
            base64('words', 3_001),
          ),
        ]),
      ),
    },
    {
      subject: 'other encodings, and no line end behind the last boundary',
      raw: message(
        'other encodings, and no line end behind the last boundary',
        ['Content-Type: multipart/mixed; boundary="a b c"'],
        multipart('a b c', [
          text,
          file(
            ['Content-Type: text/csv; name=members.csv', 'Content-Transfer-Encoding: quoted-printable'],
            `name=3Bplot${CRLF}${`Quill=3B7 =${CRLF}and more${CRLF}`.repeat(200)}`,
          ),
          file(
            ['Content-Type: text/plain; name="notes.txt"', 'Content-Transfer-Encoding: 7bit'],
            `line${CRLF}`.repeat(400),
          ),
          file(
            ['Content-Type: application/octet-stream; name=letters.bin', 'Content-Transfer-Encoding: 8bit'],
            `g\xfcnther${CRLF}`.repeat(300),
          ),
        ]),
      ),
    },
    {
      subject: 'base64 with blanks and words between its lines',
      raw: message(
        'base64 with blanks and words between its lines',
        ['Content-Type: multipart/mixed; boundary=x'],
        multipart('x', [
          text,
          file(
            ['Content-Type: image/gif; name=odd.gif', 'Content-Transfer-Encoding: base64'],
            `${base64('odd', 2_400).replaceAll(CRLF, ` ${CRLF}\t${CRLF}`)}${CRLF}`,
          ),
        ]),
      ),
    },
    {
      subject: 'a forwarded letter with files of its own',
      raw: message(
        'a forwarded letter with files of its own',
        ['Content-Type: multipart/mixed; boundary=outer'],
        multipart('outer', [
          text,
          file(
            ['Content-Type: message/rfc822', 'Content-Disposition: attachment; filename="forwarded.eml"'],
            message(
              'the letter inside',
              ['Content-Type: multipart/related; boundary=inner'],
              multipart('inner', [
                file(['Content-Type: text/html; charset=utf-8'], '<p>A picture: <img src="cid:one"></p>'),
                file(
                  ['Content-Type: image/jpeg', 'Content-ID: <one>', 'Content-Transfer-Encoding: base64'],
                  base64('one', 5_000),
                ),
              ]),
            ),
          ),
          attached('outside.jpg'),
        ]),
      ),
    },
    {
      subject: 'nothing but a file',
      raw: message(
        'nothing but a file',
        [
          'Content-Type: application/pdf; name="scan.pdf"',
          'Content-Transfer-Encoding: base64',
          'X-Behind: a field behind those of the body',
        ],
        `${base64('scan', 6_000)}${CRLF}`,
      ),
    },
    {
      subject: 'what a signature covers',
      left: 'signed',
      raw: message(
        'what a signature covers',
        ['Content-Type: multipart/signed; protocol="application/pgp-signature"; micalg=pgp-sha256; boundary=s'],
        multipart('s', [
          file(['Content-Type: multipart/mixed; boundary=t'], multipart('t', [text, attached('signed.jpg')])),
          file(['Content-Type: application/pgp-signature; name=signature.asc'], '-----BEGIN PGP SIGNATURE-----'),
        ]),
      ),
    },
    {
      subject: 'no boundary at its end',
      left: 'malformed',
      raw: message(
        'no boundary at its end',
        ['Content-Type: multipart/mixed; boundary=open'],
        `--open${CRLF}${text}${CRLF}--open${CRLF}${attached('open.jpg')}${CRLF}`,
      ),
    },
    {
      subject: 'a calendar beside the text it says',
      left: 'alternative',
      raw: message(
        'a calendar beside the text it says',
        ['Content-Type: multipart/alternative; boundary=alt'],
        multipart('alt', [
          text,
          file(
            ['Content-Type: text/calendar; method=REQUEST; name=invite.ics'],
            `BEGIN:VCALENDAR${CRLF}${`X-LINE:1${CRLF}`.repeat(400)}END:VCALENDAR`,
          ),
        ]),
      ),
    },
    {
      subject: 'two hundred deep',
      left: 'malformed',
      raw: message('two hundred deep', ['Content-Type: multipart/mixed; boundary=d0'], deep(200)),
    },
  ];
  return made.map(({ raw, ...rest }) => ({ ...rest, octets: Buffer.from(raw, 'latin1') }));
}

function nested(subject: string, inner: string, epilogue: string, preamble: string): string {
  const inside = multipart(inner, [attached('a.jpg'), attached('b.jpg')], { epilogue: '\r\nepilogue inside' });
  return message(
    subject,
    ['Content-Type: multipart/mixed; boundary="=_b"'],
    multipart('=_b', [text, file([`Content-Type: multipart/mixed; boundary="${inner}"`], inside), attached('c.jpg')], {
      preamble: `This is no part:${CRLF}${preamble}${CRLF}--=_${CRLF}`,
      epilogue: `${CRLF}${epilogue}${CRLF}`,
    }),
  );
}

function deep(levels: number): string {
  let inside = multipart(`d${levels}`, [attached('deep.jpg')]);
  for (let level = levels; level > 0; level--)
    inside = multipart(`d${level - 1}`, [file([`Content-Type: multipart/mixed; boundary=d${level}`], inside)]);
  return inside;
}
