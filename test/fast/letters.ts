import type { Given } from './fake-server';
import { recordOf } from './fake-server';

/** A file that is attached to a letter. */
export interface Attached {
  name: string;
  octets: Buffer;
  type?: string;
}

/** Octets of a length that look like those of a picture: no two files have the same. */
export function octetsOf(length: number, seed: number): Buffer {
  const octets = Buffer.alloc(length);
  let state = seed * 2_654_435_761 + 1;
  for (let at = 0; at < length; at++) {
    state = (Math.imul(state, 1_664_525) + 1_013_904_223) >>> 0;
    octets[at] = state >>> 24;
  }
  return octets;
}

/** A letter with files, as a server would give it (RFC 5322, 2046). */
export function letter(
  subject: string,
  files: readonly Attached[],
  { text = 'Here they are.\r\n', top = '' } = {},
): Buffer {
  const lines = [
    `From: Odile Marchbanks <odile@mail.example>`,
    `To: tern@mail.example`,
    `Subject: ${subject}`,
    `Message-ID: <${subject.replace(/\W+/g, '-')}@mail.example>`,
    'Date: Sun, 6 Aug 2023 10:00:00 +0000',
    ...(top === '' ? [] : [top]),
    'MIME-Version: 1.0',
    'Content-Type: multipart/mixed; boundary="=_edge"',
    '',
    'This is a letter in several parts.',
    '--=_edge',
    'Content-Type: text/plain; charset=utf-8',
    '',
    text,
    ...files.flatMap(({ name, octets, type = 'image/jpeg' }) => [
      '--=_edge',
      `Content-Type: ${type}; name="${name}"`,
      'Content-Transfer-Encoding: base64',
      `Content-Disposition: attachment; filename="${name}"`,
      '',
      octets.toString('base64').replace(/.{76}/g, '$&\r\n'),
    ]),
    '--=_edge--',
    'Nothing more.',
    '',
  ];
  return Buffer.from(lines.join('\r\n'), 'latin1');
}

/** A message of a fake server, by its octets. */
export function given(octets: Buffer, more: Partial<Given> = {}): Given {
  return {
    ...recordOf(octets),
    received: new Date('2023-08-06T10:00:05Z'),
    sent: new Date('2023-08-06T10:00:00Z'),
    from: { name: 'Odile Marchbanks', address: 'odile@mail.example' },
    octets,
    size: octets.length,
    ...more,
  };
}
