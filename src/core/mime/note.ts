import { quotedPrintable } from './quoted-printable';

/** What is said of a file in its place once it was taken out of a message. */
export interface TakenOut {
  /** Decoded, fit for one line; '' where it has none. */
  name: string;
  type: string;
  /** Decoded octets. */
  size: number;
  /** Of the decoded octets, in hexadecimal. */
  sha256: string;
  /** The day it was taken out, such as 2026-03-01. */
  day: string;
  /** Where its copy is, fit for one line: a bag and the path in it, or a place that the person chose. */
  copy: string;
}

/** Marks the part that stands in the place of a file: it is no file itself. */
export const NOTE_DESCRIPTION = 'A file was taken out here';

/** Octets of such a part with its header, about: what taking a file out costs. Names make it longer or shorter. */
export const NOTE_OCTETS = 800;

/** The part that stands in the place of a file: header, blank line and body, without a line end behind it. ASCII. */
export function notePart(file: TakenOut): string {
  const name = `${file.name === '' ? 'file' : file.name}.txt`;
  return [
    `Content-Type: text/plain; charset=utf-8;${parameter('name', name)}`,
    `Content-Disposition: inline;${parameter('filename', name)}`,
    `Content-Description: ${NOTE_DESCRIPTION}`,
    'Content-Transfer-Encoding: quoted-printable',
    '',
    quotedPrintable(noteText(file)),
  ].join('\r\n');
}

function noteText({ name, type, size, sha256, day, copy }: TakenOut): string {
  return [
    'A file was taken out of this message.',
    '',
    `Name: ${name === '' ? 'none' : name}`,
    `Type: ${type}`,
    `Size: ${size} octets`,
    `Taken out on: ${day}`,
    `SHA-256: ${sha256}`,
    `Copy: ${copy}`,
  ].join('\r\n');
}

/** Characters of an encoded piece of a value, so that no line is longer than 78 (RFC 5322 §2.1.1). */
const PIECE = 50;

/** A parameter on lines of its own: a quoted string, or where it can't be one percent-encoded, in pieces (RFC 2231 §3 and §4). */
function parameter(name: string, value: string): string {
  if (/^[ !#-[\]-~]*$/.test(value) && value.length <= PIECE) return `\r\n ${name}="${value}"`;
  const pieces: string[] = [''];
  for (const octet of new TextEncoder().encode(value)) {
    const isPlain = /[A-Za-z0-9._-]/.test(String.fromCharCode(octet));
    const written = isPlain ? String.fromCharCode(octet) : `%${octet.toString(16).toUpperCase().padStart(2, '0')}`;
    if ((pieces.at(-1) as string).length + written.length > PIECE) pieces.push('');
    pieces[pieces.length - 1] += written;
  }
  if (pieces.length === 1) return `\r\n ${name}*=utf-8''${pieces[0]}`;
  return pieces.map((piece, at) => `\r\n ${name}*${at}*=${at === 0 ? "utf-8''" : ''}${piece}`).join(';');
}
