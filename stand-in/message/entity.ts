/**
 * A MIME entity (RFC 2045) whose size is known without writing it out. All texts are octets as latin1 strings.
 */
export interface Entity {
  /** Header lines with their line ends and the blank line that closes them. */
  head: string;
  body: Body;
}

export type Body = LeafBody | MultipartBody | MessageBody;

export interface LeafBody {
  kind: 'leaf';
  /** Octets as transferred. */
  size: number;
  /** Line feeds in it. */
  lines: number;
  write(): Buffer;
  /** At least so many of its first octets, where they can be had without the others. */
  start?(octets: number): Buffer;
}

export interface MultipartBody {
  kind: 'multipart';
  boundary: string;
  parts: Entity[];
}

/** message/rfc822. */
export interface MessageBody {
  kind: 'message';
  entity: Entity;
}

export function entitySize(entity: Entity): number {
  return entity.head.length + bodySize(entity.body);
}

export function bodySize(body: Body): number {
  switch (body.kind) {
    case 'leaf':
      return body.size;
    case 'message':
      return entitySize(body.entity);
    case 'multipart': {
      // RFC 2046 §5.1.1: each delimiter but the first belongs with the line end before it.
      let size = body.boundary.length + 6;
      for (const part of body.parts) size += body.boundary.length + 4 + entitySize(part) + 2;
      return size;
    }
  }
}

export function bodyLines(body: Body): number {
  switch (body.kind) {
    case 'leaf':
      return body.lines;
    case 'message':
      return countLines(body.entity.head) + bodyLines(body.entity.body);
    case 'multipart':
      return body.parts.reduce((sum, part) => sum + 2 + countLines(part.head) + bodyLines(part.body), 1);
  }
}

export function countLines(text: string): number {
  let count = 0;
  for (let at = text.indexOf('\n'); at >= 0; at = text.indexOf('\n', at + 1)) count++;
  return count;
}

export function writeEntity(entity: Entity): Buffer {
  return Buffer.concat([Buffer.from(entity.head, 'latin1'), writeBody(entity.body)]);
}

export function writeBody(body: Body): Buffer {
  switch (body.kind) {
    case 'leaf':
      return body.write();
    case 'message':
      return writeEntity(body.entity);
    case 'multipart': {
      const pieces: Buffer[] = [];
      for (const part of body.parts)
        pieces.push(Buffer.from(`--${body.boundary}\r\n`), writeEntity(part), Buffer.from('\r\n'));
      pieces.push(Buffer.from(`--${body.boundary}--\r\n`));
      return Buffer.concat(pieces);
    }
  }
}
