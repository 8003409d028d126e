/** Characters of an encoded line, its soft line break included (RFC 2045 §6.7, rule 5). */
const MAX_LINE = 76;

/** Encodes text in lines that end in CRLF as quoted-printable (RFC 2045 §6.7). @returns ASCII. */
export function quotedPrintable(text: string): string {
  return text
    .split('\r\n')
    .map((line) => softLines(encoded(line)))
    .join('\r\n');
}

/** Each character, or octet, of a line as it is written. */
function encoded(line: string): string[] {
  const octets = new TextEncoder().encode(line);
  return Array.from(octets, (octet, at) => {
    const isPlain = octet >= 0x21 && octet <= 0x7e && octet !== 0x3d;
    const isBlank = octet === 0x20 && at < octets.length - 1;
    return isPlain || isBlank ? String.fromCharCode(octet) : `=${octet.toString(16).toUpperCase().padStart(2, '0')}`;
  });
}

function softLines(pieces: readonly string[]): string {
  let whole = '';
  let length = 0;
  for (const piece of pieces) {
    if (length + piece.length > MAX_LINE - 1) {
      whole += '=\r\n';
      length = 0;
    }
    whole += piece;
    length += piece.length;
  }
  return whole;
}
