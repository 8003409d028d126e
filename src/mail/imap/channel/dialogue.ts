import { MailProblem } from '../../problem';
import { Cursor, Malformed } from '../wire/cursor';
import { Framing, type ResponseListener } from '../wire/framing';
import { readStatus, type Status } from '../wire/status';

const STAR = 0x2a;
const PLUS = 0x2b;

/** Responses that belong to the answer of one command, unless it says how many it takes. */
const MAX_RESPONSES = 1_000;

/** An untagged response. */
export interface Untagged {
  /** Such as FETCH, upper case. */
  word: string;
  /** The number before the word; undefined where there is none. */
  number: number | undefined;
  /** Behind the word, and good until who takes the response returns. */
  cursor: Cursor;
  /** Of OK, NO, BAD, BYE and PREAUTH. */
  status: Status | undefined;
}

/** Octets that are read while they are sent. */
export interface Body {
  octets: number;
  /** All of them, in order; exactly as many as it says. */
  read(): AsyncIterable<Uint8Array>;
}

/** A command, and who reads its answer. */
export interface Command {
  /** The line after the tag; an octet string in it goes as a literal (RFC 9051 §4.3). */
  pieces: readonly (string | Buffer)[];
  /** A literal at its end that is too long to be held: sent when the server asks for it. */
  body?: Body;
  /** Milliseconds that it is waited for without anything of its answer coming. */
  patience: number;
  maxResponses?: number;
  /** A response code with which a refusal is none. */
  forgiven?: string;
  /**
   * Takes an untagged response; whether it belongs to the answer. Throws Malformed where it can't be read.
   *
   * @param tag of the command.
   */
  take?(response: Untagged, tag: string): boolean;
  /** Told of a response that can't be read, or is longer than any should be; without it the command fails then. */
  passed?(): void;
}

/** A command that was sent. */
export interface Sent {
  readonly command: Command;
  /** Once it was answered. */
  status: Status | undefined;
  /** Why its answer is none. */
  problem: MailProblem | undefined;
  /** Milliseconds that were waited since anything of its answer came. */
  waited: number;
}

interface UnderWay extends Sent {
  tag: string;
  /** What of it is still to be sent, each when the server asks for it. */
  literals: (Buffer | Body)[];
  /** Whether its body is being sent. */
  isPouring: boolean;
  responses: number;
}

/** How a dialogue reaches out. */
export interface DialogueEnds {
  send(octets: Buffer): void;
  /** Sends a body as fast as the line takes it; `sent` is called after each piece. Where it can't, it breaks the dialogue. */
  pour(body: Body, sent: () => void): Promise<void>;
  /** Whether literals may be sent before the server asks for them (LITERAL+, RFC 7888). */
  sendsLiterals(): boolean;
  /** Told of responses that belong to no command. */
  unasked(response: Untagged): void;
}

/**
 * Commands and the responses to them, without the line between. Several commands may be under way, as long as it does not
 * matter to which of them an untagged response belongs: a server may carry them out side by side (RFC 9051 §5.5).
 *
 * A response that can't be read fails the command that it belongs to: nothing is ever taken for an empty answer.
 */
export class Dialogue implements ResponseListener {
  /** Why nothing more can be asked; answers may be under way that nobody could tell apart. */
  broken: MailProblem | undefined;
  /** What the server said when it ended the dialogue. */
  goodbye: Status | undefined;
  private readonly framing = new Framing(this);
  private readonly cursor = new Cursor();
  private readonly open: UnderWay[] = [];
  /** Commands of which something is still to be sent. */
  private readonly unsent: UnderWay[] = [];
  private sequence = 0;

  constructor(private readonly ends: DialogueEnds) {}

  send(command: Command): Sent {
    const sent: UnderWay = {
      command,
      tag: `T${++this.sequence}`,
      literals: [],
      isPouring: false,
      status: undefined,
      problem: undefined,
      responses: 0,
      waited: 0,
    };
    this.open.push(sent);
    this.unsent.push(sent);
    this.flush();
    return sent;
  }

  /** Takes what the server sent, however it is cut. */
  push(octets: Buffer): void {
    this.framing.push(octets);
  }

  /** The beginning of a response that is not whole yet. */
  rest(): Buffer {
    return this.framing.rest();
  }

  /** The command that is being answered. */
  get first(): Sent | undefined {
    return this.open[0];
  }

  break(problem: MailProblem): void {
    this.broken ??= problem;
  }

  private flush(): void {
    for (let next = this.unsent[0]; next && next.literals.length === 0; next = this.unsent[0]) {
      next.literals = this.written(next);
      // It begins with its own line.
      this.ends.send(next.literals.shift() as Buffer);
      if (next.literals.length === 0) this.unsent.shift();
    }
  }

  /** A command, cut where the server has to ask for a literal. */
  private written({ tag, command }: UnderWay): (Buffer | Body)[] {
    const parts: (Buffer | Body)[] = [];
    let part: Buffer[] = [Buffer.from(`${tag} `, 'latin1')];
    for (const piece of command.pieces) {
      if (typeof piece === 'string') part.push(Buffer.from(piece, 'latin1'));
      else if (this.ends.sendsLiterals()) part.push(Buffer.from(`{${piece.length}+}\r\n`), piece);
      else {
        parts.push(Buffer.concat([...part, Buffer.from(`{${piece.length}}\r\n`)]));
        part = [piece];
      }
    }
    const { body } = command;
    // Asked for before it is sent: a server that has no room says so first.
    if (body) parts.push(Buffer.concat([...part, Buffer.from(`{${body.octets}}\r\n`)]), body);
    else parts.push(Buffer.concat([...part, Buffer.from('\r\n')]));
    return parts;
  }

  response(bytes: Buffer, start: number, end: number): void {
    if (this.broken) return;
    if (bytes[start] === PLUS) this.continued();
    else if (bytes[start] === STAR) this.untagged(bytes, start, end);
    else this.tagged(bytes.toString('latin1', start, end));
  }

  skipped(): void {
    this.unread();
  }

  private continued(): void {
    const [waiting] = this.unsent;
    // One that is not the first has to wait until those before it are answered: nobody asked for its literal yet.
    const piece = waiting && waiting === this.open[0] ? waiting.literals.shift() : undefined;
    if (!waiting || !piece) return;
    if (Buffer.isBuffer(piece)) {
      this.ends.send(piece);
      if (waiting.literals.length === 0) this.isSent();
      return;
    }
    waiting.isPouring = true;
    const advanced = () => {
      waiting.waited = 0;
    };
    void this.ends.pour(piece, advanced).then(() => {
      if (this.broken) return;
      waiting.isPouring = false;
      this.ends.send(Buffer.from('\r\n'));
      this.isSent();
    });
  }

  /** The oldest command of which something was still to be sent is through. */
  private isSent(): void {
    this.unsent.shift();
    this.flush();
  }

  private untagged(bytes: Buffer, start: number, end: number): void {
    const { cursor } = this;
    const first = this.open[0];
    try {
      cursor.load(bytes, start, end);
      cursor.word();
      const number = cursor.isNumber() ? cursor.number() : undefined;
      const word = cursor.word();
      cursor.mark();
      const status = number === undefined ? readStatus(word, () => cursor.rest()) : undefined;
      if (status?.kind === 'BYE') this.goodbye = status;
      const response = { word, number, cursor, status };
      if (first?.command.take?.(response, first.tag)) this.came(first);
      else {
        cursor.rewind();
        this.ends.unasked(response);
      }
    } catch (error) {
      if (!(error instanceof Malformed)) throw error;
      this.unread();
    }
  }

  private unread(): void {
    const first = this.open[0];
    if (!first) return;
    if (first.command.passed) first.command.passed();
    else first.problem ??= new MailProblem('unreadable-answer', 'Tamsel could not read the server’s answer.');
  }

  private came(first: UnderWay): void {
    first.waited = 0;
    if (++first.responses > (first.command.maxResponses ?? MAX_RESPONSES))
      this.break(new MailProblem('unreadable-answer', 'The server’s answer is too long.'));
  }

  private tagged(line: string): void {
    const [tag, word, text] = words(line);
    const at = this.open.findIndex((each) => each.tag === tag);
    const answered = this.open[at];
    const status = readStatus(word.toUpperCase(), () => text);
    if (!answered || !status) {
      this.break(
        new MailProblem('unreadable-answer', 'The server sent an answer that does not belong to any command.'),
      );
      return;
    }
    this.open.splice(at, 1);
    answered.status = status;
    const next = this.open[0];
    if (next) next.waited = 0;
    if (answered.isPouring)
      this.break(new MailProblem('connection-lost', 'The server ended a message before it was sent.'));
    // What it no longer wants of a command that it refused.
    else if (this.unsent[0] === answered) this.isSent();
  }
}

/** The first two words of a line, and what follows them. */
function words(line: string): [first: string, second: string, rest: string] {
  const one = line.indexOf(' ');
  if (one < 0) return [line, '', ''];
  const two = line.indexOf(' ', one + 1);
  if (two < 0) return [line.slice(0, one), line.slice(one + 1), ''];
  return [line.slice(0, one), line.slice(one + 1, two), line.slice(two + 1)];
}
