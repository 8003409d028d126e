import { setImmediate as breathe } from 'node:timers/promises';
import { lies } from '../faults';
import type { Placed } from '../mailbox/folder';
import { writeInternalDate } from '../message/header';
import { bodyStructure, envelope, section } from '../message/item';
import { flagList } from './flags';
import { atomOf, BadCommand, itemsOf, type Token, textOf } from './grammar';
import type { Session } from './session';

const MACROS: Record<string, string[]> = {
  ALL: ['FLAGS', 'INTERNALDATE', 'RFC822.SIZE', 'ENVELOPE'],
  FAST: ['FLAGS', 'INTERNALDATE', 'RFC822.SIZE'],
  FULL: ['FLAGS', 'INTERNALDATE', 'RFC822.SIZE', 'ENVELOPE', 'BODY'],
};

export async function fetch(session: Session, args: Token[], uid: boolean): Promise<undefined> {
  const asked = args[1]?.type === 'list' ? itemsOf(args[1]).map(textOf) : [textOf(args[1])];
  const items = asked.flatMap((item) => MACROS[item.toUpperCase()] ?? [item]);
  let since = 0;
  if (args[2]) {
    // CHANGEDSINCE (RFC 7162 §3.1.4).
    const modifiers = itemsOf(args[2]);
    if (atomOf(modifiers[0]) !== 'CHANGEDSINCE' || !session.offers('CONDSTORE'))
      throw new BadCommand('This modifier is not known here');
    since = Number(textOf(modifiers[1]));
    session.condStore = true;
  }
  if (uid && !items.some((item) => item.toUpperCase() === 'UID')) items.unshift('UID');
  if (since > 0 && !items.some((item) => item.toUpperCase() === 'MODSEQ')) items.push('MODSEQ');
  const { folder, readOnly } = session.folder;
  let done = 0;
  const isHalf = lies(session.host.faults, 'half fetch');
  for (const { placed, number } of session.messagesIn(textOf(args[0]), uid)) {
    if (placed.modSeq <= since || placed.gone || (isHalf && placed.uid % 2 === 0)) continue;
    const marks = items.some((item) => /^(BODY\[|RFC822$|RFC822\.TEXT$)/i.test(item));
    if (marks && !readOnly && !placed.flags.has('seen'))
      session.mailbox.setFlags(folder, [{ placed, flags: new Set([...placed.flags, 'seen']) }]);
    session.wire.write(`* ${number} FETCH (`);
    for (const [index, item] of items.entries()) {
      if (index > 0) session.wire.write(' ');
      for (const piece of itemPieces(session, placed, item)) session.wire.write(piece);
    }
    session.wire.write(')\r\n');
    if (session.wire.full()) await session.wire.flush();
    // Other connections are served in between.
    if (++done % 200 === 0) await breathe();
  }
}

/** The pieces of one item of a FETCH response. */
function itemPieces(session: Session, placed: Placed, item: string): (string | Buffer)[] {
  const { item: message, uid, modSeq, ref, received } = placed;
  const name = item.toUpperCase();
  switch (name) {
    case 'UID':
      return [`UID ${uid}`];
    case 'FLAGS':
      return [`FLAGS ${flagList(placed)}`];
    case 'INTERNALDATE':
      return [`INTERNALDATE "${writeInternalDate(received)}"`];
    case 'RFC822.SIZE':
      return [`RFC822.SIZE ${message.size}`];
    case 'ENVELOPE':
      return garbled(session, uid) ?? [`ENVELOPE ${envelope(message.entity().head)}`];
    case 'BODY':
    case 'BODYSTRUCTURE':
      return [`${name} ${bodyStructure(message.entity(), name === 'BODYSTRUCTURE')}`];
    case 'MODSEQ':
      if (!session.offers('CONDSTORE')) break;
      session.condStore = true;
      return [`MODSEQ (${modSeq})`];
    case 'SAVEDATE':
      if (!session.offers('SAVEDATE')) break;
      return [`SAVEDATE "${writeInternalDate(placed.saved)}"`];
    case 'EMAILID':
      if (!session.offers('OBJECTID')) break;
      return [`EMAILID (M${ref})`];
    case 'THREADID':
      if (!session.offers('OBJECTID')) break;
      return ['THREADID NIL'];
    case 'RFC822':
      return literal('RFC822', message.write());
    case 'RFC822.HEADER':
      return literal(name, section(message, 'HEADER'));
    case 'RFC822.TEXT':
      return literal(name, section(message, 'TEXT'));
  }
  const body = /^BODY(?:\.PEEK)?\[([^\]]*)\](?:<(\d+)\.(\d+)>)?$/i.exec(item);
  if (!body) throw new BadCommand(`FETCH does not know ${item}`);
  const [, what = '', from, length] = body;
  if (from === undefined) return literal(`BODY[${what}]`, section(message, what));
  const start = Number(from);
  // Who asks for what lies behind its beginning reads all of it, a piece at a time.
  const octets = section(message, what, start === 0 ? Number(length) : undefined);
  return literal(`BODY[${what}]<${start}>`, octets?.subarray(start, start + Number(length)) ?? null);
}

/** An ENVELOPE as no server should send it. */
function garbled({ host }: Session, uid: number): (string | Buffer)[] | undefined {
  const { garbleEvery } = host.faults;
  if (garbleEvery > 0 && uid % garbleEvery === 0) return ['ENVELOPE ("Thu, 4 Mar 2021 09:00:00 GMT" "breaks ((off'];
  if (garbleEvery > 0 && uid % garbleEvery === 1) return literal('ENVELOPE', Buffer.alloc(2 * 2 ** 20, 'x'));
  return undefined;
}

function literal(name: string, octets: Buffer | null): (string | Buffer)[] {
  return octets === null ? [`${name} NIL`] : [`${name} {${octets.length}}\r\n`, octets];
}
