import type { SecureContext } from 'node:tls';
import { parseSequenceSet, printSequenceSet, rangesOf } from '../../src/core/sets/ranges';
import type { Faults } from '../faults';
import { type Folder, indexOfUid, type Placed } from '../mailbox/folder';
import type { Mailbox } from '../mailbox/mailbox';
import { flagList } from './flags';
import { BadCommand } from './grammar';
import type { Line, Wire } from './wire';

/** A refusal, with its response code (RFC 5530) where it has one. */
export class No extends Error {
  constructor(
    readonly code: string,
    message: string,
  ) {
    super(message);
  }
}

export interface Host {
  faults: Faults;
  /** The mailbox of a user with this password, or the one that the user may act for. */
  signIn(user: string, password: string, authorization: string): Mailbox | undefined;
  passwordOf(user: string): string | undefined;
  /** The mailbox of a user who showed a token. */
  mailboxOf(user: string): Mailbox | undefined;
  /** Who tells of tokens, where they are taken. */
  authorization: { tokenInfo(token: string): Promise<TokenInfo | undefined> } | undefined;
  /** For SCRAM. */
  salt: Buffer;
  secureContext: SecureContext;
  line: Line;
  /** Sessions that are under way. */
  signedIn: Set<{ endsAt: number }>;
  nextCommandAt: number;
}

/** Whose token it is, and until when it is good, milliseconds since 1970. */
interface TokenInfo {
  user: string;
  endsAt: number;
}

/** What a session sees of a folder: messages by sequence number, until it is told of a change (RFC 9051 §5.2). */
export interface Selected {
  folder: Folder;
  readOnly: boolean;
  view: Placed[];
  /** Changes of flags up to here were told. */
  modSeq: number;
}

/** What a connection knows between two commands; the commands get it. */
export class Session {
  private mailboxOrNone: Mailbox | undefined;
  selected: Selected | undefined;
  /** Whether the client showed that it understands mod-sequences (RFC 7162 §3.1). */
  condStore = false;
  /** Whether expunged messages are told as VANISHED (RFC 7162 §3.2.10). */
  qresync = false;
  /** Whether names go in UTF-8 (RFC 6855). */
  utf8 = false;
  /** Of the command under way. */
  tag = '';
  /** When the session is over, milliseconds since 1970. */
  endsAt = Infinity;

  constructor(
    readonly host: Host,
    readonly wire: Wire,
  ) {}

  get mailbox(): Mailbox {
    if (!this.mailboxOrNone) throw new BadCommand('Sign in first');
    return this.mailboxOrNone;
  }

  get folder(): Selected {
    if (!this.selected) throw new BadCommand('Select a folder first');
    return this.selected;
  }

  offers(capability: string): boolean {
    return !this.host.faults.hide.includes(capability);
  }

  untagged(text: string): void {
    this.wire.write(`* ${text}\r\n`);
  }

  /** The messages that a set names, those that are gone left out. */
  messagesIn(set: string, uid: boolean): { placed: Placed; number: number }[] {
    const { view } = this.folder;
    const last = uid ? (view.at(-1)?.uid ?? 0) : view.length;
    const ranges = parseSequenceSet(set, last);
    if (!ranges) throw new BadCommand('The set of messages can’t be read');
    const found: { placed: Placed; number: number }[] = [];
    if (uid && this.host.faults.emptyBeyondLast && beginsBeyond(set, last)) return [];
    for (const [from, to] of ranges) {
      let index = uid ? indexOfUid(view, from) : from - 1;
      if (!uid && (from < 1 || to > view.length)) throw new BadCommand('There is no message of that number');
      for (; index < view.length; index++) {
        const placed = view[index] as Placed;
        if ((uid ? placed.uid : index + 1) > to) break;
        if (!placed.gone) found.push({ placed, number: index + 1 });
      }
    }
    return found;
  }

  /** Tells what happened in the selected folder since the last time. */
  announce(withExpunges: boolean): void {
    const selected = this.selected;
    if (!selected) return;
    const { folder } = selected;
    if (folder.modSeq === selected.modSeq && folder.messages.length === selected.view.length) return;
    if (withExpunges && selected.view.some(({ gone }) => gone)) {
      const kept: Placed[] = [];
      const vanished: number[] = [];
      for (const placed of selected.view) {
        if (!placed.gone) kept.push(placed);
        else if (this.qresync) vanished.push(placed.uid);
        else this.untagged(`${kept.length + 1} EXPUNGE`);
      }
      if (vanished.length > 0) this.untagged(`VANISHED ${printSequenceSet(rangesOf(vanished))}`);
      selected.view = kept;
    }
    for (const [index, placed] of selected.view.entries()) {
      if (!placed.gone && placed.modSeq > selected.modSeq)
        this.untagged(`${index + 1} FETCH (UID ${placed.uid} FLAGS ${flagList(placed)})`);
    }
    const known = selected.view.at(-1)?.uid ?? 0;
    const fresh = folder.messages.slice(indexOfUid(folder.messages, known + 1));
    if (fresh.length > 0) {
      for (const placed of fresh) selected.view.push(placed);
      this.untagged(`${selected.view.length} EXISTS`);
    }
    selected.modSeq = folder.modSeq;
  }

  signIn(user: string, password: string, authorization = ''): void {
    this.open(this.host.signIn(user, password, authorization));
  }

  /** The session is over when the token is. */
  signInWithToken({ user, endsAt }: TokenInfo): void {
    this.open(this.host.mailboxOf(user));
    this.endsAt = endsAt;
  }

  private open(mailbox: Mailbox | undefined): void {
    const { mostConnections } = this.host.faults;
    if (mostConnections > 0 && this.host.signedIn.size >= mostConnections)
      throw new No('LIMIT', 'There are too many connections already');
    if (!mailbox) throw new No('AUTHENTICATIONFAILED', 'The name or the password is wrong');
    this.mailboxOrNone = mailbox;
    this.host.signedIn.add(this);
  }
}

/** Whether a set is one range to the last message that begins behind it. */
function beginsBeyond(set: string, last: number): boolean {
  const from = /^(\d+):\*$/.exec(set)?.[1];
  return from !== undefined && Number(from) > last;
}
