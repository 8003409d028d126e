import { hashOf } from '../../archive/digest';
import { LASTING_FLAGS } from '../../core/mailbox/flags';
import { countOf, rangesOf } from '../../core/sets/ranges';
import { isOfOne, MailProblem } from '../../mail/problem';
import { bySection } from '../../mail/sections';
import type { MailServer, Outline, Wanted } from '../../mail/server';
import type { LeftReason } from '../../store/runs/runs';

/** A message that is to be put into a folder. */
export interface Appendable {
  id: number;
  /** Octets, and their SHA-256 in hexadecimal. */
  size: number;
  sha256: string;
  read(): AsyncIterable<Uint8Array>;
  received: Date;
  flags: number;
  keywords: readonly string[];
}

/** A message that stands in a folder, or is about to. */
export interface Appended {
  state: 'appending' | 'standing';
  generation: number;
  /** The folder's next UID before the APPEND. */
  uidNext: number;
  uid: number | null;
  size: number;
  sha256: string;
}

/** Where it is written down what is appended, before and after each step. Every call fails where the lease is lost. */
export interface Journal {
  begin(place: { generation: number; uidNext: number }, messages: readonly Appendable[]): Promise<void>;
  /** Undefined where the server did not tell the UID. */
  arrived(id: number, uid: number | undefined): Promise<void>;
  standing(generation: number, messages: readonly { id: number; uid: number }[]): Promise<void>;
  forget(id: number): Promise<void>;
}

/** By message, that it stands, or why it does not. */
export type Outcomes = Map<number, 'stands' | LeftReason>;

/** A message that the server has. */
interface Arrived {
  message: Appendable;
  uid: number;
}

/**
 * Puts messages into the open folder, exact to the octet, with dates, flags and keywords. Each step is written down first, so
 * that whoever takes over finds again what is there, and puts nothing there twice.
 */
export class Appender {
  /** Octets of a message for which there was no room: none larger is tried. */
  private noRoomFor = Number.POSITIVE_INFINITY;

  constructor(
    private readonly server: MailServer,
    private readonly journal: Journal,
  ) {}

  /**
   * Appends messages to the open folder, and looks at each of them there.
   *
   * @throws MailProblem where the server can't be used.
   */
  async append(generation: number, messages: readonly Appendable[], outcomes: Outcomes): Promise<void> {
    if (messages.length === 0) return;
    const arrived = await this.verified(await this.send(generation, messages, outcomes), outcomes);
    if (arrived.length === 0) return;
    await this.journal.standing(
      generation,
      arrived.map(({ message: { id }, uid }) => ({ id, uid })),
    );
    for (const { message } of arrived) outcomes.set(message.id, 'stands');
  }

  /**
   * Whether a message that was begun stands in the open folder; where not, it is forgotten.
   *
   * @param generation of the open folder.
   */
  async stands(id: number, generation: number, begun: Appended): Promise<boolean> {
    const isKnown = begun.state === 'standing' && begun.generation === generation && begun.uid !== null;
    const uid = isKnown
      ? await this.sizeAt(begun.uid as number).then((size) => (size === begun.size ? begun.uid : undefined))
      : await this.find(begun, begun.generation === generation ? begun.uidNext : 1);
    if (uid === undefined || uid === null) {
      await this.journal.forget(id);
      return false;
    }
    if (!isKnown) await this.journal.standing(generation, [{ id, uid }]);
    return true;
  }

  /** Octets of a message of the open folder; undefined where it is surely not there. */
  private async sizeAt(uid: number): Promise<number | undefined> {
    for await (const outlines of this.server.outlines([[uid, uid]]))
      for (const outline of outlines) if (outline.uid === uid) return outline.size;
    if (await this.isThere(uid)) throw contradiction();
    return undefined;
  }

  async isThere(uid: number): Promise<boolean> {
    return (await this.server.uids([[uid, uid]])).length > 0;
  }

  /**
   * Looks for a message by its octets among those of the open folder from a UID on. That it is not there has to be said twice,
   * since it is made anew then.
   */
  private async find({ size, sha256 }: Pick<Appended, 'size' | 'sha256'>, from: number): Promise<number | undefined> {
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

  /**
   * Reads messages of the open folder whole, one behind the other.
   *
   * @param take is given the octets of each, in order, and reads all of them.
   * @param refused is told, after all were read, what the server said of those that it did not give.
   */
  async each(
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

  /** Appends messages, and gives those that are there. */
  private async send(generation: number, messages: readonly Appendable[], outcomes: Outcomes): Promise<Arrived[]> {
    const { server, journal } = this;
    const serverName = server.opened as string;
    const { uidNext } = await server.open(serverName);
    await journal.begin({ generation, uidNext }, messages);
    const arrived: Arrived[] = [];
    const untold: Appendable[] = [];
    for (const message of messages) {
      const uid = await this.sendOne(serverName, message, outcomes);
      // Before the next is sent: who has lost the lease sends no more, since another may send the same.
      await journal.arrived(message.id, uid);
      if (outcomes.has(message.id)) continue;
      if (uid === undefined) untold.push(message);
      else arrived.push({ message, uid });
    }
    for (const message of untold) {
      const uid = await this.find(message, uidNext);
      if (uid === undefined) outcomes.set(message.id, 'differs');
      else arrived.push({ message, uid });
    }
    return arrived;
  }

  /** Appends one; gives its UID where the server tells it. */
  private async sendOne(
    serverName: string,
    { id, size, read, received, flags, keywords }: Appendable,
    outcomes: Outcomes,
  ): Promise<number | undefined> {
    if (size >= this.noRoomFor) {
      await this.journal.forget(id);
      outcomes.set(id, 'no-room');
      return undefined;
    }
    try {
      const message = { size, read, received, flags: flags & LASTING_FLAGS, keywords };
      return (await this.server.append(serverName, message))?.uid;
    } catch (error) {
      // A NO means that nothing was done (RFC 9051 §7.1.2).
      if (!(error instanceof MailProblem) || !REFUSED.has(error.kind)) throw error;
      await this.journal.forget(id);
      if (error.kind === 'no-room') {
        this.noRoomFor = Math.min(this.noRoomFor, size);
        outcomes.set(id, 'no-room');
      } else if (error.kind === 'command-refused') outcomes.set(id, 'refused');
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
      arrived.map(({ uid, message }) => ({ uid, size: message.size })),
      async (at, octets) => {
        const { id, sha256 } = (arrived[at] as Arrived).message;
        if ((await hashOf(octets)) !== sha256) outcomes.set(id, 'differs');
      },
      async (at, problem) => {
        if (problem.kind === 'message-gone') throw contradiction();
        outcomes.set((arrived[at] as Arrived).message.id, 'refused');
      },
    );
    const told = new Map<number, Outline>();
    for await (const outlines of server.outlines(rangesOf(arrived.map(({ uid }) => uid))))
      for (const outline of outlines) told.set(outline.uid, outline);
    for (const { uid, message } of arrived) {
      const outline = told.get(uid);
      if (!outline) throw contradiction();
      if (!isLike(outline, message)) outcomes.set(message.id, 'differs');
    }
    return arrived.filter(({ message }) => !outcomes.has(message.id));
  }
}

/** True if a new message has the size, the date and the flags that it was sent with. Another program may have set more already. */
function isLike(outline: Outline, { size, received, flags }: Appendable): boolean {
  const seconds = (date: Date) => Math.floor(date.getTime() / 1000);
  return (
    outline.size === size &&
    seconds(outline.received) === seconds(received) &&
    (flags & LASTING_FLAGS & ~outline.flags) === 0
  );
}

/** A message that should have so many octets; one more shows that it has not. */
export function wholeMessage(uid: number, size: number): Wanted {
  return { uid, section: '', expected: size, most: size + 1 };
}

/** What the server says of its messages can't all be true: nothing is concluded from it. */
export function contradiction(): MailProblem {
  return new MailProblem('unreadable-answer', 'The server’s answers about a message contradict each other.');
}

/** What a server says of an APPEND that it did not do. */
const REFUSED = new Set<MailProblem['kind']>(['no-room', 'command-refused', 'throttled', 'folder-gone', 'read-only']);
