import { printSequenceSet, rangesOf } from '../../src/core/sets/ranges';
import type { Folder, Placed } from '../mailbox/folder';
import { readInternalDate } from '../message/header';
import { flagList, flagOf } from './flags';
import { atomOf, BadCommand, decodeFolderName, itemsOf, type Token, textOf } from './grammar';
import { No, type Session } from './session';

export function append(session: Session, args: Token[]): string {
  const folder = session.mailbox.folder(decodeFolderName(textOf(args[0])));
  if (!folder) throw new No('TRYCREATE', 'There is no such folder');
  writable(session, folder);
  let at = 1;
  let flags: string[] = [];
  if (args[at]?.type === 'list') flags = itemsOf(args[at++]).map(flagOf);
  let received = Math.floor(Date.now() / 1000);
  if (args.length - at === 2) {
    const date = readInternalDate(textOf(args[at++]));
    if (date === undefined) throw new BadCommand('The date can’t be read');
    received = date;
  }
  const octets = Buffer.from(textOf(args[at]), 'latin1');
  const placed = session.mailbox.append(folder, octets, received, flags);
  return session.offers('UIDPLUS') ? `[APPENDUID ${folder.uidValidity} ${placed.uid}] Done` : 'Done';
}

function writable(session: Session, folder: Folder): void {
  if (folder.readOnly || session.mailbox.isView(folder) || session.host.faults.readOnly.includes(folder.name))
    throw new No('NOPERM', 'This folder can’t be changed');
}

/** The selected folder, where it may be changed. */
function changeable(session: Session): Folder {
  const { folder, readOnly } = session.folder;
  if (readOnly) throw new No('READ-ONLY', 'This folder is open for reading only');
  writable(session, folder);
  if (session.host.faults.noDelete.includes(folder.name)) throw new No('NOPERM', 'Nothing may be removed from here');
  return folder;
}

export function store(session: Session, args: Token[], uid: boolean): string {
  const folder = changeable(session);
  let at = 1;
  let unchangedSince = Number.POSITIVE_INFINITY;
  if (args[at]?.type === 'list') {
    // UNCHANGEDSINCE (RFC 7162 §3.1.3).
    unchangedSince = Number(textOf(itemsOf(args[at++])[1]));
    session.condStore = true;
  }
  const item = /^([+-]?)FLAGS(\.SILENT)?$/.exec(atomOf(args[at]));
  if (!item) throw new BadCommand('Only flags can be stored');
  const listed = args[at + 1]?.type === 'list' ? itemsOf(args[at + 1]) : args.slice(at + 1);
  const named = listed.map(flagOf);
  const modified: number[] = [];
  const found = session.messagesIn(textOf(args[0]), uid);
  const changes: { placed: Placed; flags: Set<string> }[] = [];
  for (const { placed, number } of found) {
    if (placed.modSeq > unchangedSince) {
      modified.push(uid ? placed.uid : number);
      continue;
    }
    const flags = new Set(item[1] === '' ? [] : placed.flags);
    for (const flag of named) item[1] === '-' ? flags.delete(flag) : flags.add(flag);
    if (flags.size !== placed.flags.size || [...flags].some((flag) => !placed.flags.has(flag)))
      changes.push({ placed, flags });
  }
  session.mailbox.setFlags(folder, changes);
  for (const { placed, number } of found) {
    if (item[2] && !session.condStore) continue;
    const what = [`UID ${placed.uid}`];
    if (!item[2]) what.push(`FLAGS ${flagList(placed)}`);
    if (session.condStore) what.push(`MODSEQ (${placed.modSeq})`);
    session.untagged(`${number} FETCH (${what.join(' ')})`);
  }
  session.folder.modSeq = folder.modSeq;
  return modified.length > 0 ? `[MODIFIED ${printSequenceSet(rangesOf(modified))}] Done but for these` : 'Done';
}

function destination(session: Session, token: Token | undefined): Folder {
  const folder = session.mailbox.folder(decodeFolderName(textOf(token)));
  if (!folder) throw new No('TRYCREATE', 'There is no such folder');
  writable(session, folder);
  return folder;
}

/** COPYUID (RFC 4315 §3). */
function copyUid(session: Session, to: Folder, from: readonly Placed[], made: readonly Placed[]): string {
  if (!session.offers('UIDPLUS') || from.length === 0) return '';
  const sources = printSequenceSet(rangesOf(from.map(({ uid }) => uid)));
  return `[COPYUID ${to.uidValidity} ${sources} ${printSequenceSet(rangesOf(made.map(({ uid }) => uid)))}] `;
}

export function copy(session: Session, args: Token[], uid: boolean): string {
  void session.folder;
  const to = destination(session, args[1]);
  const from = session.messagesIn(textOf(args[0]), uid).map(({ placed }) => placed);
  return `${copyUid(session, to, from, session.mailbox.copy(from, to))}Done`;
}

export function move(session: Session, args: Token[], uid: boolean): string {
  const folder = changeable(session);
  const to = destination(session, args[1]);
  const from = session.messagesIn(textOf(args[0]), uid).map(({ placed }) => placed);
  if (from.length === 0) return 'Done';
  const made = session.mailbox.move(folder, from, to);
  // RFC 6851 §4.3: COPYUID comes in an untagged OK, before the messages are expunged.
  const code = copyUid(session, to, from, made);
  if (code) session.untagged(`OK ${code}Moved`);
  return 'Done';
}

export function expunge(session: Session, args: Token[], uid: boolean): string {
  const folder = changeable(session);
  const among = uid ? session.messagesIn(textOf(args[0]), true).map(({ placed }) => placed) : folder.messages;
  const marked = among.filter(({ flags }) => flags.has('deleted'));
  const trash = [...session.mailbox.folders.values()].find(({ use }) => use === '\\Trash');
  if (session.host.faults.trashesByItself && trash && trash !== folder && marked.length > 0) {
    session.mailbox.setFlags(
      folder,
      marked.map((placed) => ({ placed, flags: new Set([...placed.flags].filter((flag) => flag !== 'deleted')) })),
    );
    session.mailbox.move(folder, marked, trash);
  } else session.mailbox.expunge(folder, marked);
  return 'Done';
}
