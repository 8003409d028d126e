import { hashOf } from '../../archive/digest';
import type { Scratch } from '../../archive/scratch';
import { MOST_LEFT, type Shrinking } from '../../core/files/shrinking';
import { FLAG_BITS } from '../../core/mailbox/flags';
import { notePart } from '../../core/mime/note';
import { type Piece, partOfSection, refusalOf, rewritten, sizeOf } from '../../core/mime/rewrite';
import { type MimePart, MimeScanner, type MimeStructure } from '../../core/mime/scanner';
import { smallerPart } from '../../core/mime/smaller';
import { countOf, rangesOf } from '../../core/sets/ranges';
import { oneLine } from '../../core/text';
import { decoded } from '../../mail/mime/decoded';
import { isOfOne, MailProblem } from '../../mail/problem';
import { bySection } from '../../mail/sections';
import type { MailServer, Outline, Wanted } from '../../mail/server';
import type { Account } from '../../store/access/accounts';
import { type CheckedCopy, checkedCopies } from '../../store/archive/bags';
import { folderById } from '../../store/index/folders';
import {
  beginRewrites,
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

/** A message whose files are to go. */
interface Member {
  member: Routed;
  original: Original;
}

/** What is to stand in the place of a message. */
interface Prepared extends Member {
  scratch: Scratch;
  pieces: Piece[];
  size: number;
  sha256: string;
}

/** A replacement that the server has. */
interface Arrived extends Prepared {
  uid: number;
}

/** By message, that its replacement stands, or why it is left as it is. */
export type Outcomes = Map<number, 'stands' | LeftReason>;

/** Encoded octets of a picture that is made smaller. */
const MOST_SHRUNK = 48 * 2 ** 20;
/** Messages, and their octets, that are dealt with together. */
export const PACK_MESSAGES = 16;
export const PACK_OCTETS = 32 * 2 ** 20;

/**
 * Puts beside messages others without some of their files, exact outside them, with their dates, flags and keywords. Each step
 * is written down first, so that whoever takes over finds the replacements again and makes no second ones. It never touches the
 * originals.
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
   * Has replacements stand beside the messages of a pack.
   *
   * @throws MailProblem where the server can't be used; DiskFull.
   */
  async replace(pack: readonly Routed[], originals: ReadonlyMap<number, Original>): Promise<Outcomes> {
    const outcomes: Outcomes = new Map();
    const reason = await this.folders.open((pack[0] as Routed).generation);
    const fresh: Member[] = [];
    for (const member of pack) {
      const original = originals.get(member.id);
      if (!original) outcomes.set(member.id, 'vanished');
      else if (reason) outcomes.set(member.id, reason);
      else if (original.rewrite && (await this.stands(member, original.rewrite))) outcomes.set(member.id, 'stands');
      else fresh.push({ member, original });
    }
    const scratches: Scratch[] = [];
    try {
      const prepared = await this.prepare(fresh, scratches, outcomes);
      const arrived = await this.append(prepared, outcomes);
      await this.noteStanding(await this.verified(arrived, outcomes), outcomes);
    } finally {
      for (const scratch of scratches) await scratch.close();
    }
    return outcomes;
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
    if (!isKnown) {
      const { id, generation } = member;
      await this.fenced((client) =>
        noteStanding(client, this.account.id, this.run.id, generation, [{ placement: id, uid }]),
      );
    }
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
      if ((await hashOf(server.download(wholeMessage(uid, size)))) === sha256) return uid;
    }
    if (told !== count) throw contradiction();
    return undefined;
  }

  /** Fetches messages whole, and cuts from each what is to stand in its place; while one is cut the next is fetched. */
  private async prepare(fresh: readonly Member[], scratches: Scratch[], outcomes: Outcomes): Promise<Prepared[]> {
    const copies = await checkedCopies(
      this.context.database,
      this.account.id,
      fresh.flatMap(({ original }) => original.files.map(({ file }) => file)),
    );
    const cutting: Promise<Prepared | undefined>[] = [];
    try {
      await this.each(
        fresh.map(({ member }) => ({ uid: member.uid, size: member.size })),
        async (at, octets) => {
          const one = fresh[at] as Member;
          const scratch = this.context.archive.scratch();
          scratches.push(scratch);
          const structure = await this.orLeft(one.member, outcomes, () => fetched(one.member, octets, scratch));
          if (!structure) return;
          const cut = this.orLeft(one.member, outcomes, () => this.cut(one, structure, copies, scratch));
          // Whoever waits for it hears of a failure.
          cut.catch(() => undefined);
          cutting.push(cut);
        },
        async (at, problem) => {
          const { member } = fresh[at] as Member;
          if (problem.kind === 'command-refused') outcomes.set(member.id, 'refused');
          else if (await this.isThere(member.uid)) throw contradiction();
          else outcomes.set(member.id, 'vanished');
        },
      );
    } finally {
      await Promise.allSettled(cutting);
    }
    return (await Promise.all(cutting)).filter((one) => one !== undefined);
  }

  /** What an act gives; undefined where it leaves the message as it is. */
  private async orLeft<T>({ id }: Routed, outcomes: Outcomes, act: () => Promise<T>): Promise<T | undefined> {
    try {
      return await act();
    } catch (error) {
      if (!(error instanceof Left)) throw error;
      outcomes.set(id, error.reason);
      return undefined;
    }
  }

  /**
   * Reads messages of the open folder whole, one behind the other.
   *
   * @param take is given the octets of each, in order, and reads all of them.
   * @param refused is told, after all were read, what the server said of those that it did not give.
   */
  private async each(
    messages: readonly { uid: number; size: number }[],
    take: (at: number, octets: AsyncIterable<Buffer>) => Promise<void>,
    refused: (at: number, problem: MailProblem) => Promise<void>,
  ): Promise<void> {
    if (messages.length === 0) return;
    const problems: [number, MailProblem][] = [];
    const tried = async (at: number, octets: AsyncIterable<Buffer>) => {
      try {
        await take(at, octets);
      } catch (error) {
        if (!isOfOne(error)) throw error;
        problems.push([at, error]);
      }
    };
    const wanted = messages.map(({ uid, size }) => wholeMessage(uid, size));
    for await (const { of, octets } of bySection(this.server.downloads(wanted))) await tried(of, octets);
    for (const [at, problem] of problems.splice(0)) {
      // Whom a server asks for patience asks again, and waits for longer and longer.
      if (problem.kind === 'throttled') await tried(at, this.server.download(wanted[at] as Wanted));
      else problems.push([at, problem]);
    }
    for (const [at, problem] of problems) {
      if (problem.kind === 'throttled') throw problem;
      await refused(at, problem);
    }
  }

  /** The new message, cut from the old one. Each file that goes has a checked copy with the same octets, looked at now. */
  private async cut(
    one: Member,
    structure: MimeStructure,
    copies: ReadonlyMap<number, CheckedCopy>,
    scratch: Scratch,
  ): Promise<Prepared> {
    const replacements: { section: string; with: string }[] = [];
    let why: LeftReason = 'no-gain';
    for (const file of one.original.files) {
      const copy = await this.checked(file, structure, copies, scratch);
      const part = this.run.shrinking ? await this.smaller(file, copy, structure, scratch) : this.note(file, copy);
      if (part === 'no-gain' || part === 'not-decoded') why = part;
      else replacements.push({ section: file.part, with: part });
    }
    if (replacements.length === 0) throw new Left(why);
    const pieces = rewritten(structure, replacements);
    const size = sizeOf(pieces);
    if (size >= one.member.size) throw new Left('no-gain');
    return { ...one, scratch, pieces, size, sha256: await hashOf(octetsOf(pieces, scratch)) };
  }

  /** What stands in the place of a file that goes. */
  private note({ name, type }: FileToStrip, copy: CheckedCopy): string {
    const day = new Intl.DateTimeFormat('en-CA', { timeZone: this.account.settings.timeZone }).format(new Date());
    const { size, sha256 } = copy;
    return notePart({ name: oneLine(name), type, size, sha256, day, copy: placeOf(copy) });
  }

  /** The part of a picture with fewer octets; or why there is none. */
  private async smaller(
    { part: section, size }: FileToStrip,
    { sha256 }: CheckedCopy,
    structure: MimeStructure,
    scratch: Scratch,
  ): Promise<string | 'no-gain' | 'not-decoded'> {
    const part = partOfSection(structure, section) as MimePart;
    if (size > MOST_SHRUNK) return 'not-decoded';
    const octets: Uint8Array[] = [];
    for await (const piece of decoded(scratch.read(part.bodyFrom, part.bodyFrom + size), part.encoding))
      octets.push(piece);
    const { longest, place } = this.run.shrinking as Shrinking;
    const made = await this.context.renderer.make({
      make: 'shrunk',
      octets: Buffer.concat(octets),
      longest,
      keepsPlace: place === 'keep',
      mostLeft: MOST_LEFT,
    });
    if (made.kind === 'picture') return smallerPart(part, made.octets, sha256);
    return made.kind === 'refused' && made.reason === 'not-smaller' ? 'no-gain' : 'not-decoded';
  }

  /** The copy of a file that goes: it has the octets that the message has, and its own are read once more. */
  private async checked(
    { file, part: section, size }: FileToStrip,
    structure: MimeStructure,
    copies: ReadonlyMap<number, CheckedCopy>,
    scratch: Scratch,
  ): Promise<CheckedCopy> {
    const refusal = refusalOf(structure, section);
    if (refusal) throw new Left(refusal);
    const part = partOfSection(structure, section);
    if (!part || !isAsLong(part, size)) throw new Left('malformed');
    const copy = copies.get(file);
    if (!copy) throw new Left('unchecked');
    const [now, kept] = await Promise.all([
      hashOf(decoded(scratch.read(part.bodyFrom, part.bodyFrom + size), part.encoding)),
      copy.place === 'here' ? this.context.archive.bag(this.account.id, copy.folder).read(copy.path) : undefined,
    ]);
    if (now !== copy.sha256) throw new Left('differs');
    if (copy.place === 'here' && kept?.sha256 !== copy.sha256) throw new Left('unchecked');
    return copy;
  }

  /** Appends new messages, and gives those that are there. */
  private async append(prepared: readonly Prepared[], outcomes: Outcomes): Promise<Arrived[]> {
    const first = prepared[0]?.member;
    if (!first) return [];
    const { server, account, run } = this;
    const { uidNext } = await server.open(server.opened as string);
    const folder = await folderById(this.context.database, account.id, first.folder);
    const rewrites = prepared.map(({ original, size, sha256 }) => ({
      ...{ placement: original.placement, size, sha256 },
      files: original.files.length,
    }));
    await this.fenced((client) =>
      beginRewrites(client, account.id, run.id, { generation: first.generation, uidNext }, rewrites),
    );
    const arrived: Arrived[] = [];
    const untold: Prepared[] = [];
    for (const one of prepared) {
      const uid = await this.send(one, folder?.serverName ?? '', outcomes);
      const { id } = one.member;
      // Before the next is sent: who has lost the lease sends no more, since another may send the same.
      await this.fenced(async (client) => {
        if (uid !== undefined) await noteArrived(client, account.id, run.id, id, uid);
      });
      if (outcomes.has(id)) continue;
      if (uid === undefined) untold.push(one);
      else arrived.push({ ...one, uid });
    }
    for (const one of untold) {
      const uid = await this.find(one, uidNext);
      if (uid === undefined) outcomes.set(one.member.id, 'differs');
      else arrived.push({ ...one, uid });
    }
    return arrived;
  }

  /** Appends one; gives its UID where the server tells it. */
  private async send(
    { member, original, size, pieces, scratch }: Prepared,
    serverName: string,
    outcomes: Outcomes,
  ): Promise<number | undefined> {
    const { received, keywords } = original;
    const flags = original.flags & KEPT_FLAGS;
    const read = () => octetsOf(pieces, scratch);
    const forget = () => this.fenced((client) => forgetRewrite(client, this.account.id, this.run.id, member.id));
    if (size >= this.noRoomFor) {
      await forget();
      outcomes.set(member.id, 'no-room');
      return undefined;
    }
    try {
      return (await this.server.append(serverName, { size, read, received, flags, keywords }))?.uid;
    } catch (error) {
      // A NO means that nothing was done (RFC 9051 §7.1.2).
      if (!(error instanceof MailProblem) || !REFUSED.has(error.kind)) throw error;
      await forget();
      if (error.kind === 'no-room') {
        this.noRoomFor = Math.min(this.noRoomFor, size);
        outcomes.set(member.id, 'no-room');
      } else if (error.kind === 'command-refused') outcomes.set(member.id, 'refused');
      else throw error;
      return undefined;
    }
  }

  /** Looks at new messages as they are on the server: octets, dates and flags. Gives those that are as they should be. */
  private async verified(arrived: readonly Arrived[], outcomes: Outcomes): Promise<Arrived[]> {
    if (arrived.length === 0) return [];
    const { server } = this;
    // What was appended is told of by the server when it is asked something.
    await server.open(server.opened as string);
    await this.each(
      arrived,
      async (at, octets) => {
        const { member, sha256 } = arrived[at] as Arrived;
        if ((await hashOf(octets)) !== sha256) outcomes.set(member.id, 'differs');
      },
      async (at, problem) => {
        if (problem.kind === 'message-gone') throw contradiction();
        outcomes.set((arrived[at] as Arrived).member.id, 'refused');
      },
    );
    const told = new Map<number, Outline>();
    for await (const outlines of server.outlines(rangesOf(arrived.map(({ uid }) => uid))))
      for (const outline of outlines) told.set(outline.uid, outline);
    for (const one of arrived) {
      const outline = told.get(one.uid);
      if (!outline) throw contradiction();
      if (!isLike(outline, one)) outcomes.set(one.member.id, 'differs');
    }
    return arrived.filter(({ member }) => !outcomes.has(member.id));
  }

  private async noteStanding(standing: readonly Arrived[], outcomes: Outcomes): Promise<void> {
    const first = standing[0]?.member;
    if (!first) return;
    const places = standing.map(({ member, uid }) => ({ placement: member.id, uid }));
    await this.fenced((client) => noteStanding(client, this.account.id, this.run.id, first.generation, places));
    for (const { member } of standing) outcomes.set(member.id, 'stands');
  }
}

/** Fetches a message whole, and finds its parts. */
async function fetched(member: Routed, octets: AsyncIterable<Buffer>, scratch: Scratch): Promise<MimeStructure> {
  const scanner = new MimeScanner();
  let size = 0;
  async function* read() {
    for await (const piece of octets) {
      scanner.push(piece);
      size += piece.length;
      yield piece;
    }
  }
  await scratch.write(read());
  if (size !== member.size) throw new Left('differs');
  return scanner.end();
}

/** Whether a new message has the size, the date and the flags that it was sent with. */
function isLike(outline: Outline, { size, original }: Prepared): boolean {
  const seconds = (date: Date) => Math.floor(date.getTime() / 1000);
  return (
    outline.size === size &&
    seconds(outline.received) === seconds(original.received) &&
    (outline.flags & KEPT_FLAGS) === (original.flags & KEPT_FLAGS)
  );
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
