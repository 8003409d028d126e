import { encodeModifiedUtf7 } from '../../src/core/mailbox/modified-utf7';
import { lies } from '../faults';
import type { Folder } from '../mailbox/folder';
import { atomOf, BadCommand, decodeFolderName, itemsOf, type Token, textOf } from './grammar';
import { No, type Session } from './session';

const SEPARATOR = '/';

/** A name as it goes on the wire. */
function quoted(session: Session, name: string): string {
  const octets = session.utf8 ? Buffer.from(name, 'utf8').toString('latin1') : encodeModifiedUtf7(name);
  return `"${octets.replace(/["\\]/g, '\\$&')}"`;
}

/** A name that came over the wire; after UTF8=ACCEPT one in modified UTF-7 is another name (RFC 6855 §3). */
function nameOf(session: Session, token: Token | undefined): string {
  const octets = textOf(token);
  return session.utf8 ? Buffer.from(octets, 'latin1').toString('utf8') : decodeFolderName(octets);
}

export function named(session: Session, token: Token | undefined): Folder {
  const folder = session.mailbox.folder(nameOf(session, token));
  if (!folder) throw new No('NONEXISTENT', 'There is no such folder');
  return folder;
}

/** `%` matches inside a level, `*` everything (RFC 9051 §6.3.9). */
function patternOf(reference: string, pattern: string): RegExp {
  const source = decodeFolderName(reference + pattern)
    .replace(/[.+?^${}()|[\]\\]/g, '\\$&')
    .replaceAll('*', '.*')
    .replaceAll('%', '[^/]*');
  return new RegExp(`^${source}$`, 'i');
}

export function list(session: Session, args: Token[]): undefined {
  let at = 0;
  let onlySpecial = false;
  if (args[0]?.type === 'list') {
    onlySpecial = itemsOf(args[0]).some((item) => atomOf(item) === 'SPECIAL-USE');
    at = 1;
  }
  const reference = textOf(args[at]);
  const patterns = args[at + 1]?.type === 'list' ? itemsOf(args[at + 1]).map(textOf) : [textOf(args[at + 1])];
  if (patterns.length === 1 && patterns[0] === '') {
    session.untagged(`LIST (\\Noselect) "${SEPARATOR}" ""`);
    return;
  }
  const returned = args[at + 2]?.type === 'atom' && atomOf(args[at + 2]) === 'RETURN' ? itemsOf(args[at + 3]) : [];
  const statusAt = returned.findIndex((item) => item.type === 'atom' && item.value.toUpperCase() === 'STATUS');
  const statusItems = statusAt >= 0 ? itemsOf(returned[statusAt + 1]).map(atomOf) : [];
  if (statusAt >= 0 && !session.offers('LIST-STATUS')) throw new BadCommand('STATUS can’t be returned here');
  const matching = patterns.map((pattern) => patternOf(reference, pattern));
  const isShort = lies(session.host.faults, 'short list');
  for (const folder of session.mailbox.folders.values()) {
    if (isShort && folder.name !== 'INBOX') continue;
    if (!matching.some((pattern) => pattern.test(folder.name)) || (onlySpecial && !folder.use)) continue;
    const parent = [...session.mailbox.folders.keys()].some((name) => name.startsWith(`${folder.name}${SEPARATOR}`));
    const attributes = [parent ? '\\HasChildren' : '\\HasNoChildren'];
    if (folder.use && session.offers('SPECIAL-USE')) attributes.push(folder.use);
    if (returned.some((item) => item.type === 'atom' && item.value.toUpperCase() === 'SUBSCRIBED'))
      attributes.push('\\Subscribed');
    session.untagged(`LIST (${attributes.join(' ')}) "${SEPARATOR}" ${quoted(session, folder.name)}`);
    if (statusAt >= 0) sendStatus(session, folder, statusItems);
  }
}

export function lsub(session: Session, args: Token[]): undefined {
  const pattern = patternOf(textOf(args[0]), textOf(args[1]));
  for (const { name } of session.mailbox.folders.values())
    if (pattern.test(name)) session.untagged(`LSUB () "${SEPARATOR}" ${quoted(session, name)}`);
}

export function status(session: Session, args: Token[]): undefined {
  sendStatus(session, named(session, args[0]), itemsOf(args[1]).map(atomOf));
}

function sendStatus(session: Session, folder: Folder, items: string[]): void {
  const told = items.filter((item) => item !== 'UIDNEXT' || !session.host.faults.noUidNext);
  const figures = told.map((item) => {
    switch (item) {
      case 'MESSAGES':
        return `MESSAGES ${folder.count}`;
      case 'RECENT':
        return 'RECENT 0';
      case 'UIDNEXT':
        return `UIDNEXT ${folder.uidNext}`;
      case 'UIDVALIDITY':
        return `UIDVALIDITY ${folder.uidValidity}`;
      case 'UNSEEN':
        return `UNSEEN ${folder.unseen}`;
      case 'DELETED':
        return `DELETED ${folder.messages.filter(({ flags }) => flags.has('deleted')).length}`;
      case 'SIZE':
        if (!session.offers('STATUS=SIZE')) break;
        return `SIZE ${stored(session, folder.bytes)}`;
      case 'HIGHESTMODSEQ':
        if (!session.offers('CONDSTORE')) break;
        session.condStore = true;
        return `HIGHESTMODSEQ ${folder.modSeq}`;
    }
    throw new BadCommand(`STATUS does not know ${item}`);
  });
  session.untagged(`STATUS ${quoted(session, folder.name)} (${figures.join(' ')})`);
}

export function select(session: Session, args: Token[], readOnly: boolean): string {
  session.selected = undefined;
  const folder = named(session, args[0]);
  if (args[1] && itemsOf(args[1]).some((item) => item.type === 'atom' && item.value.toUpperCase() === 'CONDSTORE'))
    session.condStore = true;
  const fixed = readOnly || folder.readOnly || session.host.faults.readOnly.includes(folder.name);
  session.selected = { folder, readOnly: fixed, view: [...folder.messages], modSeq: folder.modSeq };
  const unseen = folder.messages.findIndex(({ flags }) => !flags.has('seen'));
  session.untagged('FLAGS (\\Answered \\Flagged \\Deleted \\Seen \\Draft)');
  session.untagged(`${lies(session.host.faults, 'empty select') ? 0 : folder.messages.length} EXISTS`);
  session.untagged('0 RECENT');
  if (unseen >= 0) session.untagged(`OK [UNSEEN ${unseen + 1}] The first unseen message`);
  session.untagged(`OK [UIDVALIDITY ${folder.uidValidity}] UIDs are valid`);
  if (!session.host.faults.noUidNext) session.untagged(`OK [UIDNEXT ${folder.uidNext}] The next UID`);
  session.untagged(
    fixed
      ? 'OK [PERMANENTFLAGS ()] No flags can be changed'
      : 'OK [PERMANENTFLAGS (\\Answered \\Flagged \\Deleted \\Seen \\Draft \\*)] All flags can be changed',
  );
  if (session.offers('CONDSTORE')) session.untagged(`OK [HIGHESTMODSEQ ${folder.modSeq}] The last change`);
  return fixed ? '[READ-ONLY] Done' : '[READ-WRITE] Done';
}

export function create(session: Session, args: Token[]): undefined {
  const name = nameOf(session, args[0]).replace(/\/$/, '');
  if (session.mailbox.folder(name)) throw new No('ALREADYEXISTS', 'There is such a folder already');
  if (name === '' || name.length > 250) throw new No('CANNOT', 'A folder can’t be named so');
  // CREATE-SPECIAL-USE (RFC 6154 §3): (USE (\Trash)).
  const use = args[1] ? itemsOf(itemsOf(args[1])[1])[0] : undefined;
  session.mailbox.create(name, use ? textOf(use) : undefined);
}

export function remove(session: Session, args: Token[]): undefined {
  const folder = named(session, args[0]);
  if (folder.name === 'INBOX' || session.mailbox.isView(folder)) throw new No('CANNOT', 'This folder can’t be deleted');
  session.mailbox.delete(folder.name);
}

export function rename(session: Session, args: Token[]): undefined {
  const folder = named(session, args[0]);
  const to = nameOf(session, args[1]);
  if (folder.name === 'INBOX') throw new No('CANNOT', 'The inbox keeps its name here');
  if (session.mailbox.folder(to)) throw new No('ALREADYEXISTS', 'There is such a folder already');
  for (const name of [...session.mailbox.folders.keys()]) {
    if (name === folder.name || name.startsWith(`${folder.name}${SEPARATOR}`))
      session.mailbox.rename(name, to + name.slice(folder.name.length));
  }
}

export function namespace(session: Session): undefined {
  session.untagged(`NAMESPACE (("" "${SEPARATOR}")) NIL NIL`);
}

/** The folders of the second quota root, where the host has one. */
const ARCHIVE = /^Archive($|\/)/;

/** Octets as the host counts them. Where it stores LF alone, one octet of each line is missing; a line of mail is some 40 long. */
function stored(session: Session, octets: number): number {
  return session.host.faults.countsLf ? octets - Math.floor(octets / 40) : octets;
}

/** QUOTA (RFC 9208): STORAGE in units of 1024 octets, MESSAGE in messages. */
function sendQuota(session: Session, root: string): void {
  const { mailbox, host } = session;
  const archived = [...mailbox.folders.values()]
    .filter(({ name }) => host.faults.archiveRoot && ARCHIVE.test(name))
    .reduce((sum, { bytes }) => sum + bytes, 0);
  const octets = root === 'archive' ? archived : mailbox.used(host.faults.quotaLagSeconds) - archived;
  const resources = [`STORAGE ${Math.ceil(stored(session, octets) / 1024)} ${Math.floor(mailbox.limit / 1024)}`];
  if (mailbox.messageLimit !== undefined) resources.push(`MESSAGE ${mailbox.messageCount()} ${mailbox.messageLimit}`);
  session.untagged(`QUOTA "${root}" (${resources.join(' ')})`);
}

export function getQuota(session: Session, args: Token[]): undefined {
  const root = textOf(args[0]);
  if (root !== 'mailbox' && !(root === 'archive' && session.host.faults.archiveRoot))
    throw new No('NONEXISTENT', 'There is no such quota root');
  sendQuota(session, root);
}

export function getQuotaRoot(session: Session, args: Token[]): undefined {
  const folder = named(session, args[0]);
  const root = session.host.faults.archiveRoot && ARCHIVE.test(folder.name) ? 'archive' : 'mailbox';
  session.untagged(`QUOTAROOT ${quoted(session, folder.name)} "${root}"`);
  sendQuota(session, root);
}
