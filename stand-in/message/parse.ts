import { exactBody } from './content';
import type { Body, Entity } from './entity';
import { fieldOf, readStructured } from './header';

/** Parts nested deeper are left as they are. */
const MAX_DEPTH = 20;

/**
 * Reads the structure of a message that a client appended. What is malformed stays one leaf. Text before the first
 * delimiter and after the last is not kept: who wants the message whole keeps its octets.
 */
export function parseEntity(raw: string, depth = 0): Entity {
  const blank = /\r?\n\r?\n/.exec(raw);
  const startsBlank = /^\r?\n/.exec(raw);
  const headEnd = startsBlank ? startsBlank[0].length : blank ? blank.index + blank[0].length : raw.length;
  const head = raw.slice(0, headEnd);
  return { head, body: parseBody(head, raw.slice(headEnd), depth) };
}

function parseBody(head: string, text: string, depth: number): Body {
  const type = readStructured(fieldOf(head, 'content-type') ?? 'text/plain');
  const name = type.value.toLowerCase();
  if (depth < MAX_DEPTH && name === 'message/rfc822') return { kind: 'message', entity: parseEntity(text, depth + 1) };
  const boundary = type.parameters.find(([key]) => key.toLowerCase() === 'boundary')?.[1];
  if (depth < MAX_DEPTH && name.startsWith('multipart/') && boundary) {
    const parts = splitParts(text, boundary);
    if (parts) return { kind: 'multipart', boundary, parts: parts.map((part) => parseEntity(part, depth + 1)) };
  }
  return exactBody(text);
}

function splitParts(text: string, boundary: string): string[] | undefined {
  const delimiter = `--${boundary}`;
  const parts: string[] = [];
  let start = -1;
  let at = text.startsWith(delimiter) ? 0 : text.indexOf(`\n${delimiter}`) + 1;
  if (at === 0 && !text.startsWith(delimiter)) return undefined;
  for (;;) {
    if (start >= 0) parts.push(text.slice(start, at).replace(/\r?\n$/, ''));
    const lineEnd = text.indexOf('\n', at);
    if (text.startsWith('--', at + delimiter.length) || lineEnd < 0) break;
    start = lineEnd + 1;
    const next = text.indexOf(`\n${delimiter}`, lineEnd);
    if (next < 0) {
      parts.push(text.slice(start));
      break;
    }
    at = next + 1;
  }
  return parts.length > 0 ? parts : undefined;
}
