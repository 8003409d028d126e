import { hashOf } from '../../archive/digest';
import type { Scratch } from '../../archive/scratch';
import { MOST_LEFT, type Shrinking } from '../../core/files/shrinking';
import { notePart } from '../../core/mime/note';
import { type Piece, partOfSection, refusalOf, rewritten, sizeOf } from '../../core/mime/rewrite';
import { type MimePart, MimeScanner, type MimeStructure } from '../../core/mime/scanner';
import { smallerPart } from '../../core/mime/smaller';
import { shownPath } from '../../core/space/path';
import { oneLine } from '../../core/text';
import { decoded } from '../../mail/mime/decoded';
import type { MailServer } from '../../mail/server';
import type { Account } from '../../store/access/accounts';
import { type CheckedCopy, checkedCopies } from '../../store/archive/bags';
import { noteCarriedFlags } from '../../store/runs/carried-flags';
import type { FileToStrip, Original } from '../../store/runs/rewrites';
import type { LeftReason, Run } from '../../store/runs/runs';
import type { SpaceCopy } from '../../store/space/doubled';
import type { WorkContext } from '../context';
import type { Fence } from '../fence';
import { AppendJournal } from './append-journal';
import { Appender, contradiction, type Outcomes } from './appender';
import { FlagCarrier } from './carried-flags';
import type { Folders } from './folders';
import type { Staying, StayingForFile } from './staying';
import type { Routed } from './wave';

/** A message is left as it is. */
class Left extends Error {
  constructor(readonly reason: LeftReason) {
    super(reason);
  }
}

/** What is elsewhere of files that go, by file: copies outside the mailbox, and what stays in it. */
interface Elsewhere {
  copies: ReadonlyMap<number, CheckedCopy>;
  staying: ReadonlyMap<number, StayingForFile>;
}

type Copy = CheckedCopy | StayingForFile;

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
  private readonly appender: Appender;
  /** Copies flag changes from originals to replacements. */
  readonly flags: FlagCarrier;

  constructor(
    private readonly context: WorkContext,
    private readonly account: Account,
    private readonly run: Run,
    private readonly server: MailServer,
    private readonly folders: Folders,
    private readonly staying: Staying,
    private readonly fenced: Fence,
  ) {
    this.flags = new FlagCarrier(context.database, account, run, server, folders, fenced);
    this.appender = new Appender(server, new AppendJournal('run_rewrite', account.id, run.id, fenced));
  }

  /**
   * Has replacements stand beside the messages of a pack.
   *
   * @throws MailProblem where the server can't be used; DiskFull.
   */
  async replace(pack: readonly Routed[], originals: ReadonlyMap<number, Original>): Promise<Outcomes> {
    const outcomes: Outcomes = new Map();
    // Looked for first, since that opens other folders.
    const files = pack.flatMap(({ id }) => originals.get(id)?.files.map(({ file }) => file) ?? []);
    const staying = await this.staying.forFiles(files, { folders: this.folders, server: this.server });
    const reason = await this.folders.open((pack[0] as Routed).generation);
    const fresh: Member[] = [];
    for (const member of pack) {
      const original = originals.get(member.id);
      if (!original) outcomes.set(member.id, 'vanished');
      else if (reason) outcomes.set(member.id, reason);
      else if (original.rewrite && (await this.appender.stands(member.id, member.generation, original.rewrite)))
        outcomes.set(member.id, 'stands');
      else fresh.push({ member, original });
    }
    const scratches: Scratch[] = [];
    try {
      const prepared = await this.prepare(fresh, staying, scratches, outcomes);
      const messages = prepared.map(({ member: { id }, original, pieces, scratch, size, sha256 }) => ({
        ...{ id, size, sha256 },
        ...{ received: original.received, flags: original.flags, keywords: original.keywords },
        read: () => octetsOf(pieces, scratch),
      }));
      await this.appender.append((pack[0] as Routed).generation, messages, outcomes);
      const standing = messages.filter(({ id }) => outcomes.get(id) === 'stands');
      const carried = standing.map(({ id, flags, keywords }) => ({ original: id, flags: { flags, keywords } }));
      await this.fenced((client) => noteCarriedFlags(client, this.account.id, this.run.id, carried));
    } finally {
      for (const scratch of scratches) await scratch.close();
    }
    return outcomes;
  }

  /**
   * Whether for all that messages lose another one still stays: other programs may have deleted it since the replacements were made. Those
   * of which that is not so; their originals must not go.
   */
  async withoutOthers(members: readonly Routed[], originals: ReadonlyMap<number, Original>): Promise<number[]> {
    const filesOf = ({ id }: Routed) => originals.get(id)?.files.map(({ file }) => file) ?? [];
    const copies = await checkedCopies(this.context.database, this.account.id, members.flatMap(filesOf));
    const relying = members.map((member) => ({
      id: member.id,
      files: filesOf(member).filter((file) => !copies.has(file)),
    }));
    const files = relying.flatMap((one) => one.files);
    const staying = await this.staying.forFiles(files, { folders: this.folders, server: this.server });
    if (!this.staying.promisesFiles) return [];
    return relying.filter((one) => one.files.some((file) => !staying.has(file))).map(({ id }) => id);
  }

  /** Fetches messages whole, and cuts from each what is to stand in its place; while one is cut the next is fetched. */
  private async prepare(
    fresh: readonly Member[],
    staying: ReadonlyMap<number, StayingForFile>,
    scratches: Scratch[],
    outcomes: Outcomes,
  ): Promise<Prepared[]> {
    const copies = await checkedCopies(
      this.context.database,
      this.account.id,
      fresh.flatMap(({ original }) => original.files.map(({ file }) => file)),
    );
    const cutting: Promise<Prepared | undefined>[] = [];
    try {
      await this.appender.each(
        fresh.map(({ member }) => ({ uid: member.uid, size: member.size })),
        async (at, octets) => {
          const one = fresh[at] as Member;
          const scratch = this.context.archive.scratch();
          scratches.push(scratch);
          const structure = await this.orLeft(one.member, outcomes, () => fetched(one.member, octets, scratch));
          if (!structure) return;
          const cut = this.orLeft(one.member, outcomes, () => this.cut(one, structure, { copies, staying }, scratch));
          // Whoever waits for it hears of a failure.
          cut.catch(() => undefined);
          cutting.push(cut);
        },
        async (at, problem) => {
          const { member } = fresh[at] as Member;
          if (problem.kind === 'command-refused') outcomes.set(member.id, 'refused');
          else if (await this.appender.isThere(member.uid)) throw contradiction();
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

  /** The new message, cut from the old one. For each file that goes another one stays: a checked copy with the same octets, looked at now, or one in the mailbox. */
  private async cut(one: Member, structure: MimeStructure, elsewhere: Elsewhere, scratch: Scratch): Promise<Prepared> {
    const replacements: { section: string; with: string }[] = [];
    let why: LeftReason = 'no-gain';
    for (const file of one.original.files) {
      const copy = await this.checked(file, structure, elsewhere, scratch);
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
  private note({ name, type }: FileToStrip, copy: Copy): string {
    const day = new Intl.DateTimeFormat('en-CA', { timeZone: this.account.settings.timeZone }).format(new Date());
    const { size, sha256 } = copy;
    return notePart({ name: oneLine(name), type, size, sha256, day, copy: placeOf(copy) });
  }

  /** The part of a picture with fewer octets; or why there is none. */
  private async smaller(
    { part: section, size }: FileToStrip,
    { sha256 }: Copy,
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

  /** The copy of a file that goes: it has the octets that the message has, and its own are read once more. Or what stays in the mailbox for it: the file is still the one that was compared. */
  private async checked(
    { file, part: section, size }: FileToStrip,
    structure: MimeStructure,
    { copies, staying }: Elsewhere,
    scratch: Scratch,
  ): Promise<Copy> {
    const refusal = refusalOf(structure, section);
    if (refusal) throw new Left(refusal);
    const part = partOfSection(structure, section);
    if (!part || !isAsLong(part, size)) throw new Left('malformed');
    const copy = copies.get(file) ?? staying.get(file);
    if (!copy) throw new Left(this.staying.promisesFiles ? 'last-copy' : 'unchecked');
    const [now, kept] = await Promise.all([
      hashOf(decoded(scratch.read(part.bodyFrom, part.bodyFrom + size), part.encoding)),
      'place' in copy && copy.place === 'here'
        ? this.context.archive.bag(this.account.id, copy.folder).read(copy.path)
        : undefined,
    ]);
    if (now !== copy.sha256) throw new Left('differs');
    if ('place' in copy && copy.place === 'here' && kept?.sha256 !== copy.sha256) throw new Left('unchecked');
    return copy;
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

/**
 * Whether a part has the octets that the server said. Of an enclosed message that ends with a delimiter some servers count the
 * line end behind it too, which belongs to the delimiter that follows (RFC 2046 §5.1.1).
 */
function isAsLong({ type, bodyFrom, bodyTo }: MimePart, size: number): boolean {
  return bodyTo - bodyFrom === size || (type.startsWith('message/') && bodyTo - bodyFrom + CRLF === size);
}

const CRLF = 2;

/** Where the copy of a file is, as the message says it. */
function placeOf(copy: Copy): string {
  if ('staying' in copy) return messageOf(copy);
  if ('inSpace' in copy) return spaceOf(copy.inSpace);
  const { place, folder, path } = copy;
  return place === 'here' ? `Tamsel's archive, ${folder}/data/${path}` : `your own copy of ${folder}, data/${path}`;
}

/** The message that has the file too, as people tell messages, and as mail programs do (RFC 5322 §3.6.4). */
function messageOf({
  promise,
  staying: { subject, from, date, messageId },
}: Extract<StayingForFile, { staying: unknown }>): string {
  const what = promise === 'files' ? 'the same file is in' : 'a picture nearly alike is in';
  const day = date ? ` of ${date.toISOString().slice(0, 10)}` : '';
  const identity = messageId === '' ? '' : `, Message-ID ${messageId}`;
  return oneLine(`${what} the message “${subject}” from ${from}${day}${identity}`);
}

/** Where the file is in a file space, as people see it, and as programs ask for it. */
function spaceOf({ origin, root, path }: SpaceCopy): string {
  return oneLine(`the file space at ${origin}, ${shownPath(path, root)} (${origin}${path})`);
}

async function* octetsOf(pieces: readonly Piece[], scratch: Scratch): AsyncGenerator<Uint8Array> {
  for (const piece of pieces)
    if ('octets' in piece) yield piece.octets;
    else yield* scratch.read(piece.from, piece.to);
}
