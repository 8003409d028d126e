import type { SearchKey } from '../core/criteria/imap';
import type { EmailAddress } from '../core/mailbox/email-address';
import type { FlagSet } from '../core/mailbox/flags';
import type { FolderRole } from '../core/mailbox/folders';
import type { MessageRecord } from '../core/mailbox/record';
import type { Ranges } from '../core/sets/ranges';
import type { MailProblem } from './problem';

/** Where a mailbox is, and whose. */
export interface ServerAddress {
  host: string;
  port: number;
  security: 'tls' | 'starttls' | 'none';
  user: string;
}

/** What is shown to get in. */
export type Credential =
  | {
      password: string;
      /** Who signs in, where that is another: an operator whom the host lets look after the mailboxes of others. */
      signInAs?: string | undefined;
    }
  /** An access token of OAuth 2.0 (RFC 6750). */
  | { token: string };

/** Where a mailbox is and how to get in. */
export type Access = ServerAddress & Credential;

/** A folder with the figures of STATUS. */
export interface ListedFolder {
  /** As it goes on the wire, an octet a character; what every other call takes. */
  serverName: string;
  path: string;
  delimiter: string | null;
  /** As the server marks it (RFC 6154). */
  role: FolderRole | null;
  /** What its name tells, in any of many languages, where no folder is marked so. */
  proposed: FolderRole | null;
  repeats: boolean;
  selectable: boolean;
  /** Null where it can't be selected or the server did not tell. */
  status: FolderStatus | null;
}

export interface FolderStatus {
  messages: number;
  /** Octets (RFC 8438); null where the server lacks STATUS=SIZE. */
  bytes: number | null;
  /** Null where the server does not tell it. */
  uidNext: number | null;
  uidValidity: number;
  /** Null without CONDSTORE (RFC 7162). */
  modSeq: number | null;
  /** Messages that nobody read, where that was asked for and the server told. */
  unseen?: number;
}

/** The quota of the inbox's root (RFC 9208), in octets and messages; null where there is no such limit. */
export interface Quota {
  used: number | null;
  limit: number | null;
  messages: number | null;
  messageLimit: number | null;
}

/** A quota root (RFC 9208 §3.2) and how full it is, in octets; null where there is no such figure. */
export interface QuotaRoot {
  name: string;
  used: number | null;
  limit: number | null;
}

export interface OpenFolder {
  uidValidity: number;
  /** No message has this UID or a larger one; the highest and one where the server does not tell it. */
  uidNext: number;
  messages: number;
  modSeq: number | null;
  readOnly: boolean;
}

/** Flags of a message, as a scan of what changed sees them. */
export interface FlagsRecord {
  uid: number;
  flags: number;
  keywords: string[];
}

/** Size, date, flags and author of a message. */
export interface Outline {
  uid: number;
  /** RFC822.SIZE, octets. */
  size: number;
  /** INTERNALDATE. */
  received: Date;
  flags: number;
  from: EmailAddress | null;
}

/** What changed in a folder since a mod-sequence. */
export interface FolderChanges {
  /** UIDs that were expunged, maybe with others that were never there; empty where the server does not tell them. */
  vanished: Ranges;
  /** Messages that came, and those whose flags changed. */
  changed: FlagsRecord[];
}

/** Which dialect of the protocol the server speaks. */
export interface Dialect {
  move: boolean;
  uidPlus: boolean;
  condStore: boolean;
  quota: boolean;
  /** OLDER and YOUNGER (RFC 5032). */
  within: boolean;
  /** CREATE with USE (RFC 6154 §3). */
  createSpecialUse: boolean;
}

/** UIDs at the source to UIDs at the destination, as COPYUID (RFC 4315) told; null where the server did not tell. */
export type Moved = { uidValidity: number; uids: Map<number, number> } | null;

/** A section of a message that is to be fetched (RFC 9051 §6.4.5.1). */
export interface Wanted {
  uid: number;
  /** `1.2` is a part, '' the whole message. */
  section: string;
  /** Octets that it should have; it may have more. */
  expected: number;
  /** Octets that are wanted of it. */
  most: number;
}

/** A piece of a section, its end, or why there is no more of it; `of` is its place among those that were wanted. */
export type Downloaded =
  | { of: number; octets: Buffer }
  | { of: number; isAtEnd: true }
  | { of: number; problem: MailProblem };

/** A message that is to be put into a folder. */
export interface AppendedMessage {
  /** Octets. */
  size: number;
  /** All octets, in order; asked again where the server asked for patience. */
  read(): AsyncIterable<Uint8Array>;
  /** INTERNALDATE. */
  received: Date;
  /** Bits of core/mailbox/flags. */
  flags: number;
  keywords: readonly string[];
}

/** Where a message is now, as APPENDUID (RFC 4315) told; null where the server did not tell. */
export type Arrived = { uidValidity: number; uid: number } | null;

/**
 * A signed-in connection to a mail server. Every method may throw a MailProblem. Calls must not overlap, but for changes to
 * messages of the open folder: these are sent one behind the other, and answered in that order.
 */
export interface MailServer {
  readonly dialect: Dialect;
  /** Prefix of the personal namespace (RFC 2342), '' where there is none. */
  readonly personalPrefix: string;
  /** The folder that is open; undefined where none is. */
  readonly opened: string | undefined;
  folders(): Promise<ListedFolder[]>;
  /** Null without the quota extension. */
  quota(): Promise<Quota | null>;
  /** The first quota root of a folder; null where it has none, or the server has no quotas. */
  quotaRootOf(serverName: string): Promise<QuotaRoot | null>;
  /** A quota root by its name; null where it is gone. */
  quotaRoot(name: string): Promise<QuotaRoot | null>;
  open(serverName: string): Promise<OpenFolder>;
  /** The name of a folder on this server's wire, from one that people read, levels parted as the server parts them. */
  serverNameOf(name: string): string;
  /**
   * Figures of a folder that is not open; null where there is none of that name.
   *
   * @param withUnseen asks how many nobody read too, which some servers look for message by message.
   */
  status(serverName: string, withUnseen?: boolean): Promise<FolderStatus | null>;
  /** @param role marks the folder so where the server can (RFC 6154). */
  createFolder(serverName: string, role?: 'trash'): Promise<void>;
  /** All UIDs of the open folder, or those of a set that are still there. */
  uids(within?: Ranges): Promise<Ranges>;
  /** All UIDs of the open folder from this one on, asked for in another way: each message tells its own. */
  uidsOneByOne(from?: number): Promise<Ranges>;
  /** UIDs of the open folder that a search finds; all of its keys must hold. */
  find(keys: readonly SearchKey[]): Promise<Ranges>;
  /** UIDs of the open folder that bear \Deleted. */
  deletedUids(): Promise<Ranges>;
  /**
   * All that is kept of messages, many at a time, in the order in which the server sends them. A message that is gone, or
   * whose metadata can't be read, is missing.
   */
  metadata(uids: Ranges): AsyncIterable<MessageRecord[]>;
  /**
   * Opens a folder and reads all that is kept of its messages, in one round trip; for small ones, since all is held at once.
   *
   * @param messages how many are expected.
   * @returns undefined where the folder is gone, or what came is not all of it.
   */
  readWhole(serverName: string, messages: number): Promise<{ open: OpenFolder; records: MessageRecord[] } | undefined>;
  /** Size, date and flags alone, as records, for messages whose metadata the server can't give in a form that can be read. */
  bareMetadata(uids: Ranges): AsyncIterable<MessageRecord[]>;
  /** What a first ranking needs. */
  outlines(uids: Ranges): AsyncIterable<Outline[]>;
  flags(uids: Ranges): AsyncIterable<FlagsRecord[]>;
  /** Opens a folder and reads flags of messages in it, in one round trip where the set is not too long for that. */
  openAndReadFlags(serverName: string, uids: Ranges): Promise<{ open: OpenFolder; flags: FlagsRecord[] }>;
  /** What changed in the open folder since a mod-sequence (RFC 7162); undefined without CONDSTORE. */
  changes(since: number): Promise<FolderChanges | undefined>;
  /**
   * MOVE (RFC 6851).
   *
   * @param messages how many the set names: it may reach over UIDs that stand for none.
   */
  move(uids: Ranges, destination: string, messages: number): Promise<Moved>;
  copy(uids: Ranges, destination: string, messages: number): Promise<Moved>;
  markDeleted(uids: Ranges, deleted: boolean): Promise<void>;
  /** Sets flags and keywords of messages of the open folder, or removes them; the others stay. */
  changeFlags(uids: Ranges, change: FlagSet, set: boolean): Promise<void>;
  /** UID EXPUNGE (RFC 4315): these and nothing else, of what bears \Deleted. Only where the dialect has it. */
  expunge(uids: Ranges): Promise<void>;
  /** A bare EXPUNGE: everything that bears \Deleted. */
  expungeAll(): Promise<void>;
  /** When messages came into the open folder (SAVEDATE, RFC 8514); empty where the server does not tell. */
  savedAt(uids: Ranges): Promise<Map<number, Date>>;
  /** The text of a message as text, decoded, cut at a limit; '' where it has none. */
  text(uid: number): Promise<string>;
  /**
   * The octets of a section of a message of the open folder, nothing decoded, in order, a piece at a time. Throws `message-gone`
   * where the message or the section is not there.
   */
  download(wanted: Wanted): AsyncIterable<Buffer>;
  /**
   * The octets of many sections, one section behind the other, each asked for while the one before it comes. What the server
   * says of one alone is its problem; a plea for patience is one too, and the section can be asked for again.
   */
  downloads(wanted: readonly Wanted[]): AsyncIterable<Downloaded>;
  /** Puts a message into a folder, which may be another than the open one. */
  append(serverName: string, message: AppendedMessage): Promise<Arrived>;
  /** The header as it stands, decoded for reading. */
  header(uid: number): Promise<string>;
  close(): Promise<void>;
}
