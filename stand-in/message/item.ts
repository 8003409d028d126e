import { type Body, bodyLines, bodySize, type Entity, entitySize, writeBody, writeEntity } from './entity';
import { fieldsOf, readAddresses, readHeader, readStructured } from './header';
import { parseEntity } from './parse';

/** A message as a folder holds it: its octets, and what IMAP tells of them. */
export interface Item {
  /** RFC822.SIZE. */
  readonly size: number;
  entity(): Entity;
  /** All octets of it. */
  write(): Buffer;
}

/** The entity that was made last: a FETCH asks for several things of one message in a row. */
let recent: { item: Item; entity: Entity } | undefined;

/** An item whose octets come out of its entity, which is made when it is asked for. */
export function generatedItem(make: () => Entity): Item {
  return sizedItem(entitySize(make()), make);
}

/** An item whose size is known before anything of it is made. @param make gives an entity of exactly that size. */
export function sizedItem(size: number, make: () => Entity): Item {
  const item: Item = {
    size,
    entity() {
      if (recent?.item !== item) recent = { item, entity: make() };
      return recent.entity;
    },
    write: () => writeEntity(make()),
  };
  return item;
}

/** An item that a client brought, octet for octet. */
export function rawItem(octets: Buffer): Item {
  return { size: octets.length, entity: () => parseEntity(octets.toString('latin1')), write: () => octets };
}

/** A quoted string, a literal, or NIL. */
export function imapString(text: string | null | undefined): string {
  if (text === null || text === undefined) return 'NIL';
  // Quoted strings hold no CR, LF or 8-bit octets (RFC 9051 §9).
  if (/^[\x20-\x7e]*$/.test(text)) return `"${text.replace(/["\\]/g, '\\$&')}"`;
  return `{${text.length}}\r\n${text}`;
}

/** ENVELOPE (RFC 9051 §7.5.2) of a header. */
export function envelope(head: string): string {
  const fields = fieldsOf(head);
  const field = (name: string) => fields.get(name);
  const from = field('from');
  const addresses = (value: string | undefined) => {
    const list = readAddresses(value);
    if (list.length === 0) return 'NIL';
    const each = list.map((a) => `(${imapString(a.name)} NIL ${imapString(a.mailbox)} ${imapString(a.host)})`);
    return `(${each.join('')})`;
  };
  return `(${[
    imapString(field('date')),
    imapString(field('subject')),
    addresses(from),
    // An absent Sender or Reply-To is the author's.
    addresses(field('sender') || from),
    addresses(field('reply-to') || from),
    addresses(field('to')),
    addresses(field('cc')),
    addresses(field('bcc')),
    imapString(field('in-reply-to')),
    imapString(field('message-id')),
  ].join(' ')})`;
}

/** BODYSTRUCTURE, or BODY without its extension data (RFC 9051 §7.5.2). */
export function bodyStructure(entity: Entity, extended: boolean): string {
  const { head, body } = entity;
  const fields = fieldsOf(head);
  const type = readStructured(fields.get('content-type') ?? 'text/plain; charset=us-ascii');
  const [main = 'text', sub = 'plain'] = type.value.toUpperCase().split('/');
  const tail = extended
    ? ` ${disposition(fields.get('content-disposition'))} ${imapString(fields.get('content-language'))} ${imapString(fields.get('content-location'))}`
    : '';
  if (body.kind === 'multipart') {
    const parts = body.parts.map((part) => bodyStructure(part, extended)).join('');
    return `(${parts} ${imapString(sub)}${extended ? ` ${parameterList(type.parameters)}${tail}` : ''})`;
  }
  const basic = [
    imapString(main),
    imapString(sub),
    parameterList(type.parameters),
    imapString(fields.get('content-id')),
    imapString(fields.get('content-description')),
    imapString((fields.get('content-transfer-encoding') ?? '7bit').toUpperCase()),
    `${bodySize(body)}`,
  ];
  if (body.kind === 'message')
    basic.push(envelope(body.entity.head), bodyStructure(body.entity, extended), `${bodyLines(body)}`);
  else if (main === 'TEXT') basic.push(`${bodyLines(body)}`);
  return `(${basic.join(' ')}${extended ? ` ${imapString(fields.get('content-md5'))}${tail}` : ''})`;
}

function parameterList(parameters: [string, string][]): string {
  if (parameters.length === 0) return 'NIL';
  return `(${parameters.map(([name, value]) => `${imapString(name.toUpperCase())} ${imapString(value)}`).join(' ')})`;
}

function disposition(field: string | undefined): string {
  if (field === undefined) return 'NIL';
  const { value, parameters } = readStructured(field);
  return `(${imapString(value.toUpperCase())} ${parameterList(parameters)})`;
}

/** The part that a section number names (RFC 9051 §6.4.5); a message that is no multipart is its own part 1. */
export function partAt(entity: Entity, numbers: readonly number[]): Entity | undefined {
  let here: Entity | undefined = entity;
  for (const [level, number] of numbers.entries()) {
    // Below an enclosed message, numbers count the parts of that message.
    const inside: Body | undefined = here.body.kind === 'message' && level > 0 ? here.body.entity.body : here.body;
    if (inside.kind === 'multipart') here = inside.parts[number - 1];
    else if (number === 1) here = inside === here.body ? here : (here.body as { entity: Entity }).entity;
    else here = undefined;
    if (!here) return undefined;
  }
  return here;
}

/** The sections that were written last: clients ask for a long one in many pieces, over several connections at a time. */
const written: { item: Item; name: string; octets: Buffer | null }[] = [];
const MOST_WRITTEN = 4;

/**
 * The octets of a section such as '', '1.2', 'HEADER', '2.MIME', 'HEADER.FIELDS (From To)'; null where there is none.
 *
 * @param most octets of its beginning that are wanted, where no more of it will be; there may be more.
 */
export function section(item: Item, name: string, most = Number.POSITIVE_INFINITY): Buffer | null {
  const known = written.find((one) => one.item === item && one.name === name);
  if (known) return known.octets;
  const { body } = (/^[\d.]+$/.test(name) && partAt(item.entity(), name.split('.').map(Number))) || {};
  if (body?.kind === 'leaf' && body.start && most < body.size / 2) return body.start(most);
  const octets = writeSection(item, name);
  written.unshift({ item, name, octets });
  written.splice(MOST_WRITTEN);
  return octets;
}

function writeSection(item: Item, name: string): Buffer | null {
  const match = /^((?:\d+\.)*\d+)?\.?(HEADER\.FIELDS(?:\.NOT)? \(([^)]*)\)|HEADER|TEXT|MIME)?$/i.exec(name);
  if (!match) return null;
  const [, path, what = '', names = ''] = match;
  const kind = what.toUpperCase();
  if (!path) {
    if (kind === '') return item.write();
    const { head } = item.entity();
    if (kind === 'TEXT') return item.write().subarray(head.length);
    return Buffer.from(headerSection(head, kind, names), 'latin1');
  }
  const numbers = path.split('.').map(Number);
  const part = partAt(item.entity(), numbers);
  if (!part) return null;
  if (kind === '') return writeBody(part.body);
  if (kind === 'MIME') return Buffer.from(part.head, 'latin1');
  if (part.body.kind !== 'message') return null;
  const inner = part.body.entity;
  return kind === 'TEXT' ? writeBody(inner.body) : Buffer.from(headerSection(inner.head, kind, names), 'latin1');
}

function headerSection(head: string, kind: string, names: string): string {
  if (kind === 'HEADER') return head;
  const wanted = new Set(
    names
      .toLowerCase()
      .split(/\s+/)
      .map((name) => name.replace(/^"|"$/g, '')),
  );
  const keep = !kind.startsWith('HEADER.FIELDS.NOT');
  let out = '';
  for (const { name, raw } of readHeader(head)) if (wanted.has(name) === keep) out += raw;
  return `${out}\r\n`;
}
