/** Writes a folder's name in modified UTF-7, as it goes on the wire (RFC 3501 §5.1.3). */
export function encodeFolderName(name: string): string {
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
