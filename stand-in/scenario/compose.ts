import { type Attachment, fileBody } from '../files/body';
import { exactBody, type LinePool, type TextSegment, textBody } from '../message/content';
import type { Body, Entity } from '../message/entity';
import { encodeWords, writeDate, writeHeader, writeMailbox } from '../message/header';
import { Random, seedOf } from '../message/random';
import type { Person } from './people';
import { LETTER_LINES } from './words';

/** What a letter is made of; `compose` turns it into an entity, the same for the same seed. */
export interface Letter {
  seed: number;
  /** Seconds since the epoch, for the Date field; null writes none. */
  date: number | null;
  from: Person | null;
  to: readonly Person[];
  cc?: readonly Person[];
  subject: string;
  messageId: string;
  /** Message-IDs of the thread so far, oldest first. */
  references?: readonly string[];
  extra?: readonly (readonly [string, string])[];
  /** What its host found out of it (RFC 8601), as the last host writes it above all else. */
  found?: string;
  text: readonly TextSegment[];
  html?: { pool: LinePool; lines: number };
  files?: readonly Attachment[];
}

const TEXT_TYPE: [string, string][] = [
  ['Content-Type', 'text/plain; charset=us-ascii'],
  ['Content-Transfer-Encoding', '7bit'],
];

export function compose(letter: Letter): Entity {
  const random = new Random(seedOf(letter.seed, 77));
  const content = withFiles(letter, withHtml(letter, random), random);
  const fields: [string, string][] = [
    ...(letter.found ? [['Authentication-Results', letter.found] as [string, string]] : []),
    ['Return-Path', `<${letter.from?.address ?? ''}>`],
  ];
  if (letter.date !== null) {
    fields.push([
      'Received',
      `from mx.saltmarshlane.example by store.saltmarshlane.example with ESMTPS;\r\n ${writeDate(letter.date)}`,
    ]);
    fields.push(['Date', writeDate(letter.date)]);
  }
  if (letter.from) fields.push(['From', writeMailbox(letter.from.name, letter.from.address)]);
  fields.push(['To', letter.to.map((to) => writeMailbox(to.name, to.address)).join(',\r\n ')]);
  if (letter.cc?.length) fields.push(['Cc', letter.cc.map((to) => writeMailbox(to.name, to.address)).join(',\r\n ')]);
  fields.push(['Subject', encodeWords(letter.subject)]);
  if (letter.messageId) fields.push(['Message-ID', letter.messageId]);
  const parent = letter.references?.at(-1);
  if (parent) {
    fields.push(['In-Reply-To', parent]);
    fields.push(['References', letter.references?.join('\r\n ') ?? '']);
  }
  fields.push(...((letter.extra ?? []) as [string, string][]), ['MIME-Version', '1.0']);
  return { head: writeHeader([...fields, ...content.type]), body: content.body };
}

interface Content {
  type: [string, string][];
  body: Body;
}

const entityOf = (content: Content): Entity => ({ head: writeHeader(content.type), body: content.body });

function multipart(subtype: string, boundary: string, parts: Entity[]): Content {
  return {
    type: [['Content-Type', `multipart/${subtype}; boundary="${boundary}"`]],
    body: { kind: 'multipart', boundary, parts },
  };
}

const boundaryOf = (random: Random, mark: string) =>
  `=_${mark}_${random.below(0x7fffffff).toString(36)}${random.below(0x7fffffff).toString(36)}`;

function withHtml(letter: Letter, random: Random): Content {
  const text: Content = { type: TEXT_TYPE, body: textBody(letter.text) };
  if (!letter.html) return text;
  const page: TextSegment[] = [
    { line: '<!DOCTYPE html><html><head><meta charset="utf-8"><title>Offer</title></head><body>', depth: 0 },
    { seed: letter.seed, lines: letter.html.lines, pool: letter.html.pool, depth: 0 },
    { line: '</body></html>', depth: 0 },
  ];
  const html: Content = {
    type: [
      ['Content-Type', 'text/html; charset=utf-8'],
      ['Content-Transfer-Encoding', '7bit'],
    ],
    body: textBody(page),
  };
  return multipart('alternative', boundaryOf(random, 'alt'), [entityOf(text), entityOf(html)]);
}

function withFiles(letter: Letter, content: Content, random: Random): Content {
  if (!letter.files?.length) return content;
  return multipart('mixed', boundaryOf(random, 'mix'), [
    entityOf(content),
    ...letter.files.map((file) => attach(file)),
  ]);
}

/** RFC 2231 for names that are not US-ASCII, else a quoted string. */
function nameParameter(key: string, name: string): string {
  if (/^[\x20-\x7e]*$/.test(name)) return `${key}="${name}"`;
  return `${key}*=UTF-8''${encodeURIComponent(name).replace(/['()*]/g, (letter) => `%${letter.charCodeAt(0).toString(16)}`)}`;
}

function attach(file: Attachment): Entity {
  return {
    head: writeHeader([
      ['Content-Type', `${file.type};\r\n ${nameParameter('name', file.name)}`],
      ['Content-Transfer-Encoding', 'base64'],
      ['Content-Disposition', `attachment;\r\n ${nameParameter('filename', file.name)}`],
    ]),
    body: fileBody(file, LETTER_LINES),
  };
}

/** A message given octet by octet, for those that no composer would write. */
export function verbatim(head: string, text: string): Entity {
  return { head: `${head.replace(/\n/g, '\r\n')}\r\n\r\n`, body: exactBody(text.replace(/\n/g, '\r\n')) };
}
