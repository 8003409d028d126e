/** Writes a folder's name in modified UTF-7 (RFC 3501 §5.1.3). */
export function encodeModifiedUtf7(name: string): string {
  return name.replace(/&|[^\x20-\x7e]+/g, (run) => {
    if (run === '&') return '&-';
    let octets = '';
    for (let at = 0; at < run.length; at++) {
      const unit = run.charCodeAt(at);
      octets += String.fromCharCode(unit >> 8, unit & 255);
    }
    return `&${btoa(octets).replace(/=+$/, '').replaceAll('/', ',')}-`;
  });
}

/** Reads modified UTF-7; undefined where the text is none. */
export function decodeModifiedUtf7(text: string): string | undefined {
  if (!/^[\x20-\x7e]*$/.test(text)) return undefined;
  let name = '';
  for (let at = 0; at < text.length; ) {
    const shift = text.indexOf('&', at);
    if (shift < 0) return name + text.slice(at);
    const end = text.indexOf('-', shift);
    const run = end < 0 ? undefined : decodeRun(text.slice(shift + 1, end));
    if (run === undefined) return undefined;
    name += text.slice(at, shift) + run;
    at = end + 1;
  }
  return name;
}

/** A run between `&` and `-`: UTF-16 in base64 with a comma for the slash and no padding; nothing stands for `&` itself. */
function decodeRun(run: string): string | undefined {
  if (run === '') return '&';
  if (!/^[A-Za-z0-9+,]+$/.test(run) || run.length % 4 === 1) return undefined;
  const octets = atob(run.replaceAll(',', '/'));
  if (octets.length % 2 !== 0) return undefined;
  let text = '';
  for (let at = 0; at < octets.length; at += 2)
    text += String.fromCharCode((octets.charCodeAt(at) << 8) | octets.charCodeAt(at + 1));
  return text;
}
