import { setImmediate as breathe } from 'node:timers/promises';
import libmime from 'libmime';
import { parseSequenceSet, printSequenceSet, rangesOf } from '../../src/core/sets/ranges';
import { fold } from '../../src/core/text';
import { lies } from '../faults';
import type { Placed } from '../mailbox/folder';
import { type Entity, writeBody } from '../message/entity';
import { fieldOf, readHeader, readStructured, writtenDay } from '../message/header';
import { atomOf, BadCommand, itemsOf, type Token, textOf } from './grammar';
import { No, type Session } from './session';

type Test = (placed: Placed, number: number) => boolean;

const DAY = 86_400;

/** SEARCH with every key of RFC 3501 §6.4.4, WITHIN (RFC 5032), MODSEQ (RFC 7162), EMAILID (RFC 8474), and ESEARCH. */
export async function search(session: Session, args: Token[], uid: boolean): Promise<undefined> {
  let at = 0;
  let returned: string[] | undefined;
  if (args[at]?.type === 'atom' && atomOf(args[at]) === 'RETURN' && session.offers('ESEARCH')) {
    returned = itemsOf(args[at + 1]).map(atomOf);
    if (returned.length === 0) returned = ['ALL'];
    at += 2;
  }
  if (args[at]?.type === 'atom' && atomOf(args[at]) === 'CHARSET') {
    if (!['UTF-8', 'US-ASCII'].includes(atomOf(args[at + 1])))
      throw new No('BADCHARSET (US-ASCII UTF-8)', 'This charset is not known here');
    at += 2;
  }
  const compiler = new Compiler(args, at, session);
  const test = compiler.all();
  const { view } = session.folder;
  const found: number[] = [];
  for (const [index, placed] of view.entries()) {
    if (!placed.gone && test(placed, index + 1)) found.push(uid ? placed.uid : index + 1);
    if (index % 500 === 499) await breathe();
  }
  const modSeq =
    compiler.asksModSeq && found.length > 0
      ? Math.max(...view.filter(({ gone }) => !gone).map((placed) => placed.modSeq))
      : undefined;
  const { faults } = session.host;
  if (lies(faults, 'silent search')) return;
  if (lies(faults, 'empty search')) found.length = 0;
  if (!returned) {
    session.untagged(`SEARCH${found.map((number) => ` ${number}`).join('')}${modSeq ? ` (MODSEQ ${modSeq})` : ''}`);
    return;
  }
  const parts: string[] = [];
  if (found.length > 0) {
    if (returned.includes('MIN')) parts.push(` MIN ${found[0]}`);
    if (returned.includes('MAX')) parts.push(` MAX ${found.at(-1)}`);
    const all = lies(faults, 'endless set')
      ? '1:4294967295'
      : printSequenceSet(lies(faults, 'short set') ? rangesOf(found).slice(0, -1) : rangesOf(found));
    if (returned.includes('ALL') && all !== '') parts.push(` ALL ${all}`);
  }
  if (returned.includes('COUNT')) parts.push(` COUNT ${found.length}`);
  if (modSeq) parts.push(` MODSEQ ${modSeq}`);
  session.untagged(`ESEARCH (TAG "${session.tag}")${uid ? ' UID' : ''}${parts.join('')}`);
}

class Compiler {
  asksModSeq = false;

  constructor(
    private readonly tokens: Token[],
    private at: number,
    private readonly session: Session,
  ) {}

  /** Keys up to the end, all of which must hold. */
  all(): Test {
    const tests: Test[] = [];
    while (this.at < this.tokens.length) tests.push(this.key());
    if (tests.length === 0) throw new BadCommand('What to search for is missing');
    return (placed, number) => tests.every((test) => test(placed, number));
  }

  private key(): Test {
    const token = this.tokens[this.at++];
    if (token?.type === 'list') return new Compiler(token.items, 0, this.session).all();
    const key = atomOf(token);
    const flag = /^(UN)?(ANSWERED|DELETED|DRAFT|FLAGGED|SEEN)$/.exec(key);
    if (flag) {
      const name = (flag[2] as string).toLowerCase();
      return ({ flags }) => flags.has(name) === (flag[1] === undefined);
    }
    switch (key) {
      case 'ALL':
      case 'OLD':
        return () => true;
      case 'NEW':
      case 'RECENT':
        return () => false;
      case 'NOT': {
        const test = this.key();
        return (placed, number) => !test(placed, number);
      }
      case 'OR': {
        const [one, other] = [this.key(), this.key()];
        return (placed, number) => one(placed, number) || other(placed, number);
      }
      case 'KEYWORD':
      case 'UNKEYWORD': {
        // Flags count in any letter case (RFC 9051 §2.3.2).
        const keyword = this.word().toLowerCase();
        return ({ flags }) => [...flags].some((flag) => flag.toLowerCase() === keyword) === (key === 'KEYWORD');
      }
      case 'LARGER':
      case 'SMALLER': {
        const octets = this.number();
        return ({ item }) => (key === 'LARGER' ? item.size > octets : item.size < octets);
      }
      case 'OLDER':
      case 'YOUNGER': {
        if (!this.session.offers('WITHIN')) throw new BadCommand(`SEARCH does not know ${key}`);
        const instant = Math.floor(Date.now() / 1000) - this.number();
        return ({ received }) => (key === 'OLDER' ? received <= instant : received >= instant);
      }
      case 'BEFORE':
      case 'ON':
      case 'SINCE':
        return this.dayTest(key, ({ received }) => Math.floor(received / DAY) * DAY);
      case 'SENTBEFORE':
      case 'SENTON':
      case 'SENTSINCE':
        return this.dayTest(key.slice(4), ({ item }) => writtenDay(fieldOf(item.entity().head, 'date')));
      case 'FROM':
      case 'TO':
      case 'CC':
      case 'BCC':
      case 'SUBJECT':
        return headerTest(key.toLowerCase(), this.word());
      case 'HEADER':
        return headerTest(this.word().toLowerCase(), this.word());
      case 'BODY':
      case 'TEXT': {
        const wanted = comparable(this.word());
        return ({ item }) => searchText(item.entity(), key === 'TEXT').includes(wanted);
      }
      case 'UID': {
        const numbers = this.set(this.word(), this.session.folder.view.at(-1)?.uid ?? 0);
        return ({ uid }) => numbers(uid);
      }
      case 'MODSEQ': {
        this.asksModSeq = true;
        const least = this.number();
        return ({ modSeq }) => modSeq >= least;
      }
      case 'EMAILID': {
        const id = this.word();
        return ({ ref }) => `M${ref}` === id;
      }
    }
    const numbers = this.set(key, this.session.folder.view.length);
    return (_, number) => numbers(number);
  }

  private set(text: string, star: number): (number: number) => boolean {
    const ranges = parseSequenceSet(text, star);
    if (!ranges) throw new BadCommand(`SEARCH does not know ${text}`);
    return (number) => ranges.some(([first, last]) => number >= first && number <= last);
  }

  private word(): string {
    return textOf(this.tokens[this.at++]);
  }

  private number(): number {
    const number = Number(this.word());
    if (!Number.isSafeInteger(number) || number < 0) throw new BadCommand('A number is missing');
    return number;
  }

  private dayTest(key: string, dayOf: (placed: Placed) => number | undefined): Test {
    const day = writtenDay(this.word().replaceAll('-', ' '));
    if (day === undefined) throw new BadCommand('The date can’t be read');
    return (placed) => {
      const its = dayOf(placed);
      if (its === undefined) return false;
      return key === 'BEFORE' ? its < day : key === 'ON' ? its === day : its >= day;
    };
  }
}

/** Octets of UTF-8, or of latin1 where they are no UTF-8, in a form in which letter case does not count. */
function comparable(octets: string): string {
  const buffer = Buffer.from(octets, 'latin1');
  const text = buffer.toString('utf8');
  return fold(text.includes('\ufffd') ? octets : text);
}

function decodedField(value: string): string {
  return fold(libmime.decodeWords(comparableCase(value)));
}

/** Encoded words keep their case until they are decoded. */
function comparableCase(octets: string): string {
  const text = Buffer.from(octets, 'latin1').toString('utf8');
  return text.includes('\ufffd') ? octets : text;
}

function headerTest(name: string, wanted: string): Test {
  const text = comparable(wanted);
  return ({ item }) =>
    readHeader(item.entity().head).some((field) => field.name === name && decodedField(field.value).includes(text));
}

/** All that TEXT looks at: headers and the text parts, decoded. */
function searchText(entity: Entity, withHeader: boolean): string {
  const header = withHeader
    ? `${readHeader(entity.head)
        .map(({ name, value }) => `${name}: ${decodedField(value)}`)
        .join('\n')}\n`
    : '';
  const { body } = entity;
  if (body.kind === 'multipart') return header + body.parts.map((part) => searchText(part, true)).join('\n');
  if (body.kind === 'message') return header + searchText(body.entity, true);
  const type = readStructured(fieldOf(entity.head, 'content-type') ?? 'text/plain');
  if (!/^text\//i.test(type.value)) return header;
  const octets = writeBody(body);
  const encoding = (fieldOf(entity.head, 'content-transfer-encoding') ?? '').toLowerCase();
  const plain = encoding === 'base64' || encoding === 'quoted-printable' ? decoded(octets, encoding) : octets;
  return header + comparable(plain.toString('latin1'));
}

function decoded(octets: Buffer, encoding: 'base64' | 'quoted-printable'): Buffer {
  const text = octets.toString('latin1');
  if (encoding === 'base64') return Buffer.from(text, 'base64');
  // RFC 2045 §6.7.
  const joined = text.replace(/[ \t]+(?=\r?\n)/g, '').replace(/=\r?\n/g, '');
  return Buffer.from(
    joined.replace(/=([0-9A-Fa-f]{2})/g, (_, hex: string) => String.fromCharCode(Number.parseInt(hex, 16))),
    'latin1',
  );
}
