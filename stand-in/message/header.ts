/** Reading and writing header fields. Octets as latin1 strings throughout. */

/** A header's fields in their order, unfolded (RFC 5322 §2.2.3). */
export function readHeader(head: string): { name: string; value: string; raw: string }[] {
  const fields: { name: string; value: string; raw: string }[] = [];
  for (let at = 0; at < head.length; ) {
    let end = lineEnd(head, at);
    let folded = false;
    while (head[end] === ' ' || head[end] === '\t') {
      end = lineEnd(head, end);
      folded = true;
    }
    const colon = head.indexOf(':', at);
    if (colon > at && colon < end) {
      const value = head.slice(colon + 1, end);
      fields.push({
        name: head.slice(at, colon).trim().toLowerCase(),
        value: (folded ? value.replace(/\r?\n/g, '') : value).trim(),
        raw: head.slice(at, end),
      });
    }
    at = end;
  }
  return fields;
}

function lineEnd(text: string, from: number): number {
  const feed = text.indexOf('\n', from);
  return feed < 0 ? text.length : feed + 1;
}

/** The values of a header by lower-case name; of a repeated field the first. */
export function fieldsOf(head: string): Map<string, string> {
  const fields = new Map<string, string>();
  for (const { name, value } of readHeader(head)) if (!fields.has(name)) fields.set(name, value);
  return fields;
}

/** The value of the first field of a name. */
export function fieldOf(head: string, name: string): string | undefined {
  return readHeader(head).find((field) => field.name === name)?.value;
}

/** Writes a header: fields in order, the blank line at its end. */
export function writeHeader(fields: readonly (readonly [string, string])[]): string {
  return `${fields.map(([name, value]) => `${name}: ${value}\r\n`).join('')}\r\n`;
}

/** Encodes text for a header where it needs to be (RFC 2047), in words of at most 75 octets. */
export function encodeWords(text: string): string {
  if (/^[\x20-\x7e]*$/.test(text) && !text.includes('=?')) return text;
  const words: string[] = [];
  let chunk = '';
  const flush = () => words.push(`=?UTF-8?B?${Buffer.from(chunk, 'utf8').toString('base64')}?=`);
  for (const letter of text) {
    if (Buffer.byteLength(chunk + letter, 'utf8') > 45) {
      flush();
      chunk = '';
    }
    chunk += letter;
  }
  flush();
  return words.join('\r\n ');
}

/** A display name and address as a mailbox (RFC 5322 §3.4). */
export function writeMailbox(name: string, address: string): string {
  if (name === '') return address;
  if (/^[\x20-\x7e]*$/.test(name))
    return /^[A-Za-z0-9 ]+$/.test(name) ? `${name} <${address}>` : `"${name.replace(/["\\]/g, '\\$&')}" <${address}>`;
  return `${encodeWords(name)} <${address}>`;
}

const DAYS = ['Sun', 'Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat'];
const MONTHS = ['Jan', 'Feb', 'Mar', 'Apr', 'May', 'Jun', 'Jul', 'Aug', 'Sep', 'Oct', 'Nov', 'Dec'];
const two = (number: number) => `${number}`.padStart(2, '0');

/** A date-time of RFC 5322 §3.3 in UTC. */
export function writeDate(seconds: number): string {
  const date = new Date(seconds * 1000);
  const time = `${two(date.getUTCHours())}:${two(date.getUTCMinutes())}:${two(date.getUTCSeconds())}`;
  return `${DAYS[date.getUTCDay()]}, ${date.getUTCDate()} ${MONTHS[date.getUTCMonth()]} ${date.getUTCFullYear()} ${time} +0000`;
}

/** INTERNALDATE (RFC 9051 §9, date-time) in UTC. */
export function writeInternalDate(seconds: number): string {
  const date = new Date(seconds * 1000);
  const time = `${two(date.getUTCHours())}:${two(date.getUTCMinutes())}:${two(date.getUTCSeconds())}`;
  return `${`${date.getUTCDate()}`.padStart(2, ' ')}-${MONTHS[date.getUTCMonth()]}-${date.getUTCFullYear()} ${time} +0000`;
}

/** Reads a date-time of APPEND; undefined where it is none. Seconds since the epoch. */
export function readInternalDate(text: string): number | undefined {
  const match = /^ ?(\d{1,2})-([A-Za-z]{3})-(\d{4}) (\d{2}):(\d{2}):(\d{2}) ([+-])(\d{2})(\d{2})$/.exec(text);
  if (!match) return undefined;
  const [, day, name, year, hours, minutes, seconds, sign, zoneHours, zoneMinutes] = match;
  const month = MONTHS.findIndex((known) => known.toLowerCase() === name?.toLowerCase());
  if (month < 0) return undefined;
  const local = Date.UTC(Number(year), month, Number(day), Number(hours), Number(minutes), Number(seconds)) / 1000;
  const offset = (Number(zoneHours) * 60 + Number(zoneMinutes)) * 60;
  return sign === '+' ? local - offset : local + offset;
}

/** The day in a Date field as it stands there, as SENTBEFORE and its kin read it (RFC 9051 §6.4.4); a UTC midnight in s. */
export function writtenDay(field: string | undefined): number | undefined {
  const match = /(\d{1,2})\s+([A-Za-z]{3})[a-z]*\s+(\d{4})/.exec(field ?? '');
  const month = MONTHS.findIndex((known) => known.toLowerCase() === match?.[2]?.toLowerCase());
  if (!match || month < 0) return undefined;
  return Date.UTC(Number(match[3]), month, Number(match[1])) / 1000;
}

/** A media type field: type, subtype, and parameters with unquoted values; names in capitals as IMAP servers give them. */
export interface StructuredField {
  value: string;
  parameters: [string, string][];
}

/** Reads Content-Type and Content-Disposition (RFC 2045 §5.1): value in lower case, parameters in order. */
export function readStructured(field: string): StructuredField {
  const value = (/^[^;]*/.exec(field)?.[0] ?? '').trim();
  const parameters: [string, string][] = [];
  const pattern = /;\s*([^=;\s]+)\s*=\s*(?:"((?:[^"\\]|\\.)*)"|([^;\s]*))/g;
  for (const match of field.matchAll(pattern)) {
    parameters.push([match[1] as string, match[2] !== undefined ? match[2].replace(/\\(.)/g, '$1') : (match[3] ?? '')]);
  }
  return { value, parameters };
}

/** An address as ENVELOPE gives it; a null host marks a group (RFC 9051 §7.5.2). */
export interface EnvelopeAddress {
  name: string | null;
  mailbox: string | null;
  host: string | null;
}

/** Reads an address list (RFC 5322 §3.4), groups and comments included, as leniently as servers do. */
export function readAddresses(field: string | undefined): EnvelopeAddress[] {
  if (field === undefined) return [];
  const list: EnvelopeAddress[] = [];
  let words: string[] = [];
  let angle: string | null = null;
  let comment: string | null = null;
  let at = 0;
  const push = () => {
    const plain = words.join(' ').trim();
    const address = angle ?? plain.replace(/\s+/g, '');
    if (angle === null && plain === '') return;
    const name = angle === null ? comment : plain === '' ? comment : plain;
    const cut = address.lastIndexOf('@');
    list.push({
      name,
      mailbox: cut < 0 ? address : address.slice(0, cut),
      host: cut < 0 ? '' : address.slice(cut + 1),
    });
  };
  const reset = () => {
    words = [];
    angle = null;
    comment = null;
  };
  while (at < field.length) {
    const letter = field[at] as string;
    if (letter === '"') {
      const match = /"((?:[^"\\]|\\.)*)"?/y;
      match.lastIndex = at;
      const found = match.exec(field);
      words.push((found?.[1] ?? '').replace(/\\(.)/g, '$1'));
      at = match.lastIndex || field.length;
    } else if (letter === '(') {
      let depth = 0;
      const start = at + 1;
      for (; at < field.length; at++) {
        if (field[at] === '\\') at++;
        else if (field[at] === '(') depth++;
        else if (field[at] === ')' && --depth === 0) break;
      }
      comment = field.slice(start, at).trim();
      at++;
    } else if (letter === '<') {
      const end = field.indexOf('>', at);
      angle = field
        .slice(at + 1, end < 0 ? undefined : end)
        .replace(/\([^()]*\)/g, '')
        .trim();
      at = end < 0 ? field.length : end + 1;
    } else if (letter === ',') {
      push();
      reset();
      at++;
    } else if (letter === ':' && angle === null) {
      list.push({ name: null, mailbox: words.join(' ').trim(), host: null });
      reset();
      at++;
    } else if (letter === ';') {
      push();
      reset();
      list.push({ name: null, mailbox: null, host: null });
      at++;
    } else if (/\s/.test(letter)) at++;
    else {
      const match = /[^\s"(<,;:]+/y;
      match.lastIndex = at;
      const found = match.exec(field)?.[0];
      words.push(found ?? letter);
      at += found?.length ?? 1;
    }
  }
  push();
  return list;
}
