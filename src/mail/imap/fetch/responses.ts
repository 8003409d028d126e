import { parseSequenceSet, type Ranges } from '../../../core/sets/ranges';
import type { MailProblem } from '../../problem';
import { answerProblem } from '../answers';
import { Cursor, Malformed } from './cursor';
import { Framing, type ResponseListener } from './framing';

const STAR = 0x2a;
const PLUS = 0x2b;

/** Who asked for messages. */
export interface FetchListener<T> {
  /** Reads the data items of a message, the cursor before their list; undefined for what nobody asked for. */
  read(cursor: Cursor): T | undefined;
  /** Told of the UIDs that went since the mod-sequence that was asked for (RFC 7162 §3.2.6). */
  vanished?(uids: Ranges): void;
  /** Told when a command was answered in full. */
  answered?(octets: number): void;
}

/**
 * What a server answers to UID FETCH commands, with whatever it says unasked in between. A response that can't be read, or
 * is longer than any should be, is passed by: what it was about is missing from what is taken.
 */
export class FetchResponses<T> implements ResponseListener {
  /** Commands that were sent and not answered in full. */
  open = 0;
  refused: MailProblem | undefined;
  private sent = 0;
  private octets = 0;
  private read: T[] = [];
  private readonly framing = new Framing(this);
  private readonly cursor = new Cursor();

  constructor(private readonly listener: FetchListener<T>) {}

  tag(): string {
    this.open++;
    return `F${++this.sent}`;
  }

  push(chunk: Buffer): void {
    this.octets += chunk.length;
    this.framing.push(chunk);
  }

  take(): T[] {
    const { read } = this;
    this.read = [];
    return read;
  }

  rest(): Buffer {
    return this.framing.rest();
  }

  response(bytes: Buffer, start: number, end: number): void {
    if (bytes[start] === PLUS) return;
    this.cursor.load(bytes, start, end);
    try {
      if (bytes[start] === STAR) this.untagged();
      else this.tagged(bytes.toString('latin1', start, end));
    } catch (error) {
      // Its message is missing from what was read, and is asked for again in a form that every server gets right.
      if (!(error instanceof Malformed)) throw error;
    }
  }

  skipped(): void {
    // As with what can't be read.
  }

  private untagged(): void {
    this.cursor.word();
    if (!this.cursor.isNumber()) {
      if (this.cursor.word() === 'VANISHED') this.vanished();
      return;
    }
    this.cursor.number();
    if (this.cursor.word() !== 'FETCH') return;
    const read = this.listener.read(this.cursor);
    if (read !== undefined) this.read.push(read);
  }

  private vanished(): void {
    if (this.cursor.isList()) this.cursor.skip();
    const uids = parseSequenceSet(this.cursor.string() ?? '');
    if (uids) this.listener.vanished?.(uids);
  }

  private tagged(line: string): void {
    const answer = /^F\d+ (OK|NO|BAD)(?: \[([^\]\s]*)[^\]]*\])? ?(.*)$/is.exec(line);
    if (!answer) return;
    const [, status = '', code = '', words = ''] = answer;
    this.open--;
    this.listener.answered?.(this.octets);
    this.octets = 0;
    // RFC 5530 §3: some were expunged meanwhile, and the others were fetched.
    if (status.toUpperCase() !== 'OK' && code.toUpperCase() !== 'EXPUNGEISSUED')
      this.refused ??= answerProblem(status, code, words);
  }
}
