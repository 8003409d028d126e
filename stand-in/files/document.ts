import { Random } from '../message/random';

/** Lines of a page. */
const LINES = 40;

/** The fewest octets of a document. */
export const LEAST = 8_000;

/**
 * A document of one page with text (PDF 1.7, ISO 32000-1), as large as is asked for: the rest is in a stream that the page does
 * not use.
 *
 * @param lines to draw the text from, without parentheses and backslashes.
 * @param octets at least LEAST.
 */
export function pdf(seed: number, lines: readonly string[], octets: number): Buffer {
  const random = new Random(seed);
  const shown = Array.from({ length: LINES }, (_, line) =>
    line === 0 ? `Saltmarsh Lane Allotments, ${1 + random.below(900)}` : random.pick(lines),
  );
  const page = `BT /F1 12 Tf 56 780 Td 18 TL ${shown.map((line) => `(${line.replace(/[()\\]/g, '')}) '`).join(' ')} ET`;
  const objects = [
    '<< /Type /Catalog /Pages 2 0 R >>',
    '<< /Type /Pages /Kids [3 0 R] /Count 1 >>',
    '<< /Type /Page /Parent 2 0 R /MediaBox [0 0 595 842] /Resources << /Font << /F1 4 0 R >> >> /Contents 5 0 R >>',
    '<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica >>',
    stream(Buffer.from(page, 'latin1')),
  ];
  const bare = assembled(objects, Buffer.alloc(0));
  return assembled(objects, filling(random, octets - bare.length));
}

function stream(content: Buffer): string {
  return `<< /Length ${padded(content.length)} >>\nstream\n${content.toString('latin1')}\nendstream`;
}

/** As long for every number, so that the length of the file does not hang on what it says. */
const padded = (number: number) => `${number}`.padStart(10, '0');

function filling(random: Random, octets: number): Buffer {
  const block = Buffer.from(Array.from({ length: 4096 }, () => random.below(256)));
  return Buffer.alloc(octets, block);
}

/** The file of its objects and of a last one that nothing uses (§7.5). */
function assembled(objects: readonly string[], unused: Buffer): Buffer {
  const at: number[] = [];
  let text = '%PDF-1.7\n';
  for (const object of [...objects, stream(unused)]) {
    at.push(text.length);
    text += `${at.length} 0 obj\n${object}\nendobj\n`;
  }
  const table = at.map((place) => `${padded(place)} 00000 n \n`).join('');
  const trailer = `trailer\n<< /Size ${at.length + 1} /Root 1 0 R >>\nstartxref\n${padded(text.length)}\n%%EOF\n`;
  return Buffer.from(`${text}xref\n0 ${at.length + 1}\n0000000000 65535 f \n${table}${trailer}`, 'latin1');
}
