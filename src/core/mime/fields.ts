/** The fields of a header that say what a body is (RFC 2045 §3). */
export interface BodyFields {
  /** Media type and subtype, lower case; `text/plain` where there is none or it can't be read (§5.2). */
  type: string;
  /** Of a text (RFC 2046 §4.1.2); undefined where there is none. */
  charset: string | undefined;
  /** Of a multipart (RFC 2046 §5.1.1); undefined where there is none. */
  boundary: string | undefined;
  /** Content-Transfer-Encoding, lower case; `7bit` where there is none (§6.1). */
  encoding: string;
}

/** A field of a header, with where it stands. */
export interface Field {
  /** Lower case; '' for a line that is none. */
  name: string;
  /** Unfolded. */
  value: string;
  /** Offsets in the header: the field with its line ends is `[from, to)`. */
  from: number;
  to: number;
}

/** Cuts a header into fields (RFC 5322 §2.2). @param header an octet a character, with or without the blank line at its end. */
export function fieldsOf(header: string): Field[] {
  const fields: Field[] = [];
  for (let from = 0; from < header.length; ) {
    let to = lineEnd(header, from);
    // A line that begins with white space goes on with the field before it (§2.2.3).
    while (to < header.length && (header[to] === ' ' || header[to] === '\t')) to = lineEnd(header, to);
    const text = header.slice(from, to).replace(/[\r\n]+/g, '');
    const colon = text.indexOf(':');
    const name = colon < 0 ? '' : text.slice(0, colon).trimEnd().toLowerCase();
    fields.push({ name: /^[!-9;-~]+$/.test(name) ? name : '', value: text.slice(colon + 1).trim(), from, to });
    from = to;
  }
  return fields;
}

/** Behind the next line feed, or the end. */
function lineEnd(text: string, from: number): number {
  const feed = text.indexOf('\n', from);
  return feed < 0 ? text.length : feed + 1;
}

/** @param fallback the type of a body of which the header says none. */
export function bodyFieldsOf(header: string, fallback = 'text/plain'): BodyFields & { isAmbiguous: boolean } {
  const fields = fieldsOf(header);
  const valuesOf = (wanted: string) => fields.filter(({ name }) => name === wanted).map(({ value }) => value);
  const [contentType, ...more] = valuesOf('content-type');
  const [encoding = '7bit', ...others] = valuesOf('content-transfer-encoding');
  const type = contentType === undefined ? fallback : mediaType(contentType);
  return {
    type,
    charset: type.startsWith('text/') ? parameter(contentType ?? '', 'charset') : undefined,
    boundary: type.startsWith('multipart/') ? parameter(contentType ?? '', 'boundary') : undefined,
    encoding: encoding.replace(/[\s;(].*$/s, '').toLowerCase(),
    // Programs differ in which of several they take.
    isAmbiguous: more.length + others.length > 0,
  };
}

/** A token of RFC 2045 §5.1. */
const TOKEN = /^[!#$%&'*+\-.0-9A-Z^_`a-z{|}~]+$/;

function mediaType(value: string): string {
  const [main = '', sub = ''] = withoutComments(value).split(';', 1)[0]?.split('/', 2) ?? [];
  const [type, subtype] = [main.trim(), sub.trim()];
  return TOKEN.test(type) && TOKEN.test(subtype) ? `${type}/${subtype}`.toLowerCase() : 'text/plain';
}

/** The value of a parameter (RFC 2045 §5.1); undefined where there is none. */
function parameter(value: string, wanted: string): string | undefined {
  return parametersOf(value).get(wanted);
}

/** The parameters of a field: names in lower case, each a token or a quoted string (RFC 2045 §5.1). Of a repeated one the first counts. */
export function parametersOf(value: string): Map<string, string> {
  const parameters = new Map<string, string>();
  const seen = new Set<string>();
  for (const part of parametersIn(withoutComments(value))) {
    const equals = part.indexOf('=');
    const name = part.slice(0, Math.max(0, equals)).trim().toLowerCase();
    if (equals < 0 || seen.has(name)) continue;
    seen.add(name);
    const read = parameterValue(part.slice(equals + 1).trim());
    if (read !== undefined) parameters.set(name, read);
  }
  return parameters;
}

function parameterValue(raw: string): string | undefined {
  if (!raw.startsWith('"')) return raw.split(/\s/, 1)[0] ?? '';
  const closing = /^"((?:[^"\\]|\\.)*)"/s.exec(raw);
  return closing?.[1]?.replace(/\\(.)/gs, '$1');
}

/** What stands between semicolons that are in no quoted string; the first is the type. */
function parametersIn(value: string): string[] {
  const parts: string[] = [];
  let from = 0;
  let isQuoted = false;
  for (let at = 0; at < value.length; at++) {
    const letter = value[at];
    if (isQuoted && letter === '\\') at++;
    else if (letter === '"') isQuoted = !isQuoted;
    else if (letter === ';' && !isQuoted) {
      parts.push(value.slice(from, at));
      from = at + 1;
    }
  }
  parts.push(value.slice(from));
  return parts.slice(1);
}

/** Without comments in parentheses (RFC 5322 §3.2.2), which may be nested. */
function withoutComments(value: string): string {
  if (!value.includes('(')) return value;
  let plain = '';
  let depth = 0;
  let isQuoted = false;
  for (let at = 0; at < value.length; at++) {
    const letter = value[at] as string;
    if (letter === '\\' && (isQuoted || depth > 0)) {
      if (depth === 0) plain += letter + (value[at + 1] ?? '');
      at++;
    } else if (letter === '"' && depth === 0) {
      isQuoted = !isQuoted;
      plain += letter;
    } else if (letter === '(' && !isQuoted) depth++;
    else if (letter === ')' && !isQuoted && depth > 0) depth--;
    else if (depth === 0) plain += letter;
  }
  return plain;
}
