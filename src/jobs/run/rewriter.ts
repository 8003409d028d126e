import { createHash } from 'node:crypto';
import type { Scratch } from '../../archive/scratch';
import { FLAG_BITS } from '../../core/mailbox/flags';
import { notePart } from '../../core/mime/note';
import { type Piece, partOfSection, refusalOf, rewritten, sizeOf } from '../../core/mime/rewrite';
import { type MimePart, MimeScanner, type MimeStructure } from '../../core/mime/scanner';
import { countOf } from '../../core/sets/ranges';
import { oneLine } from '../../core/text';
import { decoded } from '../../mail/mime/decoded';
import { MailProblem } from '../../mail/problem';
import type { MailServer, Wanted } from '../../mail/server';
import type { Account } from '../../store/access/accounts';
import { type CheckedCopy, checkedCopies } from '../../store/archive/bags';
import { folderById } from '../../store/index/folders';
import {
  beginRewrite,
  type FileToStrip,
  forgetRewrite,
  noteArrived,
  noteStanding,
  type Original,
  type Rewrite,
} from '../../store/runs/rewrites';
import type { LeftReason, Run } from '../../store/runs/runs';
import type { WorkContext } from '../context';
import type { Fence } from '../fence';
import type { Folders } from './folders';
import type { Routed } from './wave';

/** Flags that a message takes along. \Deleted is no property of it, and \Recent nobody sets. */
const KEPT_FLAGS = FLAG_BITS.seen | FLAG_BITS.answered | FLAG_BITS.flagged | FLAG_BITS.draft;

/** A message is left as it is. */
class Left extends Error {
  constructor(readonly reason: LeftReason) {
    super(reason);
  }
}

/**
 * Puts beside a message one without some of its files, exact outside them, with its date, flags and keywords. Each step is
 * written down first, so that whoever takes over finds the replacement again and makes no second one. It never touches the
 * original.
 */
export class Rewriter {
  /** Octets of a replacement for which there was no room: none larger is tried. */
  private noRoomFor = Number.POSITIVE_INFINITY;

  constructor(
    private readonly context: WorkContext,
    private readonly account: Account,
    private readonly run: Run,
    private readonly server: MailServer,
    private readonly folders: Folders,
    private readonly fenced: Fence,
  ) {}

  /**
   * Has a replacement stand beside a message.
   *
   * @returns why the message is left as it is; undefined where its replacement stands.
   * @throws MailProblem where the server can't be used; DiskFull.
   */
  async replace(member: Routed, original: Original | undefined): Promise<LeftReason | undefined> {
    if (!original) return 'vanished';
    const reason = await this.folders.open(member.generation);
    if (reason !== undefined) return reason;
    if (original.rewrite && (await this.stands(member, original.rewrite))) return undefined;
    try {
      await this.append(member, original);
      return undefined;
    } catch (error) {
      if (error instanceof Left) return error.reason;
      if (!(error instanceof MailProblem)) throw error;
      if (error.kind === 'message-gone') {
        if (await this.isThere(member.uid)) throw contradiction();
        return 'vanished';
      }
      if (error.kind === 'no-room') return 'no-room';
      if (error.kind === 'command-refused') return 'refused';
      throw error;
    }
  }

  /** Whether a replacement that was begun is there; where not, it is forgotten. */
  private async stands(member: Routed, rewrite: Rewrite): Promise<boolean> {
    const isKnown = rewrite.state === 'standing' && rewrite.generation === member.generation && rewrite.uid !== null;
    const uid = isKnown
      ? await this.sizeAt(rewrite.uid as number).then((size) => (size === rewrite.size ? rewrite.uid : undefined))
      : await this.find(rewrite, rewrite.generation === member.generation ? rewrite.uidNext : 1);
    if (uid === undefined || uid === null) {
      await this.fenced((client) => forgetRewrite(client, this.account.id, this.run.id, member.id));
      return false;
    }
    if (!isKnown) await this.noteStanding(member, uid);
    return true;
  }

  /** Octets of a message of the open folder; undefined where it is surely not there. */
  private async sizeAt(uid: number): Promise<number | undefined> {
    for await (const outlines of this.server.outlines([[uid, uid]]))
      for (const outline of outlines) if (outline.uid === uid) return outline.size;
    if (await this.isThere(uid)) throw contradiction();
    return undefined;
  }

  private async isThere(uid: number): Promise<boolean> {
    return (await this.server.uids([[uid, uid]])).length > 0;
  }

  /**
   * Looks for a message by its octets among those of the open folder from a UID on. That it is not there has to be said twice,
   * since it is made anew then.
   */
  private async find({ size, sha256 }: Pick<Rewrite, 'size' | 'sha256'>, from: number): Promise<number | undefined> {
    const { server } = this;
    const { uidNext } = await server.open(server.opened as string);
    if (uidNext < from) throw contradiction();
    if (uidNext === from) return undefined;
    const newer = [[from, uidNext - 1]] as const;
    const count = countOf(await server.uids(newer));
    const alike: number[] = [];
    let told = 0;
    for await (const outlines of server.outlines(newer))
      for (const outline of outlines) {
        told++;
        if (outline.size === size) alike.push(outline.uid);
      }
    for (const uid of alike) {
      const hash = createHash('sha256');
      for await (const piece of server.download(wholeMessage(uid, size))) hash.update(piece);
      if (hash.digest('hex') === sha256) return uid;
    }
    if (told !== count) throw contradiction();
    return undefined;
  }

  private async append(member: Routed, original: Original): Promise<void> {
    const scratch = await this.context.archive.scratch();
    try {
      const structure = await this.fetch(member, scratch);
      const pieces = await this.pieces(structure, original.files, scratch);
      const size = sizeOf(pieces);
      if (size >= member.size) throw new Left('no-gain');
      if (size >= this.noRoomFor) throw new Left('no-room');
      const sha256 = await hashOf(octetsOf(pieces, scratch));
      const { server } = this;
      const uidNext = (await server.open(server.opened as string)).uidNext;
      const { placement, files } = original;
      await this.fenced((client) =>
        beginRewrite(client, this.account.id, this.run.id, {
          ...{ placement, generation: member.generation, uidNext, size, sha256 },
          files: files.length,
        }),
      );
      const uid = await this.send(member, original, size, () => octetsOf(pieces, scratch), { uidNext, sha256 });
      await this.fenced((client) => noteArrived(client, this.account.id, this.run.id, placement, uid));
      await this.verify(uid, original, size, sha256);
      await this.noteStanding(member, uid);
    } finally {
      await scratch.close();
    }
  }

  /** Fetches a message whole into a file, and finds its parts. */
  private async fetch(member: Routed, scratch: Scratch): Promise<MimeStructure> {
    const scanner = new MimeScanner();
    let size = 0;
    const { server } = this;
    async function* read() {
      for await (const piece of server.download(wholeMessage(member.uid, member.size))) {
        scanner.push(piece);
        size += piece.length;
        yield piece;
      }
    }
    await scratch.write(read());
    if (size !== member.size) throw new Left('differs');
    return scanner.end();
  }

  /** The new message, cut from the old one. Each file that goes has a checked copy with the same octets, looked at now. */
  private async pieces(structure: MimeStructure, files: readonly FileToStrip[], scratch: Scratch): Promise<Piece[]> {
    const { database, archive } = this.context;
    const copies = await checkedCopies(
      database,
      this.account.id,
      files.map(({ file }) => file),
    );
    const day = new Intl.DateTimeFormat('en-CA', { timeZone: this.account.settings.timeZone }).format(new Date());
    const replacements: { section: string; with: string }[] = [];
    for (const { file, part: section, name, type, size } of files) {
      const refusal = refusalOf(structure, section);
      if (refusal) throw new Left(refusal);
      const part = partOfSection(structure, section);
      if (!part || !isAsLong(part, size)) throw new Left('malformed');
      const copy = copies.get(file);
      if (!copy) throw new Left('unchecked');
      const now = await hashOf(decoded(scratch.read(part.bodyFrom, part.bodyFrom + size), part.encoding));
      if (now !== copy.sha256) throw new Left('differs');
      if (copy.place === 'here') {
        const kept = await archive.bag(this.account.id, copy.folder).read(copy.path);
        if (kept?.sha256 !== copy.sha256) throw new Left('unchecked');
      }
      const { size: octets, sha256 } = copy;
      replacements.push({
        section,
        with: notePart({ name: oneLine(name), type, size: octets, sha256, day, copy: placeOf(copy) }),
      });
    }
    if (replacements.length === 0) throw new Left('no-gain');
    return rewritten(structure, replacements);
  }

  /** Appends the new message, and gives its UID. */
  private async send(
    member: Routed,
    original: Original,
    size: number,
    read: () => AsyncIterable<Uint8Array>,
    { uidNext, sha256 }: { uidNext: number; sha256: string },
  ): Promise<number> {
    const { server, account } = this;
    const folder = await folderById(this.context.database, account.id, member.folder);
    const { received, keywords } = original;
    const flags = original.flags & KEPT_FLAGS;
    try {
      const arrived = await server.append(folder?.serverName ?? '', { size, read, received, flags, keywords });
      if (arrived) return arrived.uid;
    } catch (error) {
      if (error instanceof MailProblem && REFUSED.has(error.kind)) {
        // A NO means that nothing was done (RFC 9051 §7.1.2).
        if (error.kind === 'no-room') this.noRoomFor = Math.min(this.noRoomFor, size);
        await this.fenced((client) => forgetRewrite(client, account.id, this.run.id, member.id));
      }
      throw error;
    }
    const uid = await this.find({ size, sha256 }, uidNext);
    if (uid === undefined) throw new Left('differs');
    return uid;
  }

  /** Looks at the new message as it is on the server: octets, date and flags. */
  private async verify(uid: number, { received, flags }: Original, size: number, sha256: string): Promise<void> {
    const { server } = this;
    // What was appended is told of by the server when it is asked something.
    await server.open(server.opened as string);
    const hash = createHash('sha256');
    for await (const piece of server.download(wholeMessage(uid, size))) hash.update(piece);
    if (hash.digest('hex') !== sha256) throw new Left('differs');
    for await (const outlines of server.outlines([[uid, uid]]))
      for (const outline of outlines) {
        const isSame =
          outline.size === size &&
          Math.floor(outline.received.getTime() / 1000) === Math.floor(received.getTime() / 1000) &&
          (outline.flags & KEPT_FLAGS) === (flags & KEPT_FLAGS);
        if (outline.uid === uid && isSame) return;
        if (outline.uid === uid) throw new Left('differs');
      }
    throw contradiction();
  }

  private async noteStanding({ id, generation }: Routed, uid: number): Promise<void> {
    await this.fenced((client) => noteStanding(client, this.account.id, this.run.id, id, generation, uid));
  }
}

/** A message that should have so many octets; one more shows that it has not. */
function wholeMessage(uid: number, size: number): Wanted {
  return { uid, section: '', expected: size, most: size + 1 };
}

/** What the server says of its messages can't all be true: nothing is concluded from it. */
function contradiction(): MailProblem {
  return new MailProblem('unreadable-answer', 'The server’s answers about a message contradict each other.');
}

/** What a server says of an APPEND that it did not do. */
const REFUSED = new Set<MailProblem['kind']>(['no-room', 'command-refused', 'throttled', 'folder-gone', 'read-only']);

/**
 * Whether a part has the octets that the server said. Of an enclosed message that ends with a delimiter some servers count the
 * line end behind it too, which belongs to the delimiter that follows (RFC 2046 §5.1.1).
 */
function isAsLong({ type, bodyFrom, bodyTo }: MimePart, size: number): boolean {
  return bodyTo - bodyFrom === size || (type.startsWith('message/') && bodyTo - bodyFrom + CRLF === size);
}

const CRLF = 2;

/** Where the copy of a file is, as the message says it. */
function placeOf({ place, folder, path }: CheckedCopy): string {
  return place === 'here' ? `Tamsel's archive, ${folder}/data/${path}` : `your own copy of ${folder}, data/${path}`;
}

async function* octetsOf(pieces: readonly Piece[], scratch: Scratch): AsyncGenerator<Uint8Array> {
  for (const piece of pieces)
    if ('octets' in piece) yield piece.octets;
    else yield* scratch.read(piece.from, piece.to);
}

async function hashOf(octets: AsyncIterable<Uint8Array>): Promise<string> {
  const hash = createHash('sha256');
  for await (const piece of octets) hash.update(piece);
  return hash.digest('hex');
}
