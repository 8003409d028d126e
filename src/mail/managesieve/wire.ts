import type { Socket } from 'node:net';
import { MailProblem } from '../problem';

/** A value of a response line: a string, or an atom such as OK. */
export type Value = { string: string } | { atom: string };

/** Lines that make up one answer: those before the last, and the last, which says how it went (RFC 5804 §1.2). */
export interface Answer {
  status: 'OK' | 'NO' | 'BYE';
  /** What stands in parentheses, such as QUOTA; '' without one. */
  code: string;
  text: string;
  lines: Value[][];
}

const MAX_ANSWER = 4 * 2 ** 20;
const MAX_LINES = 10_000;
const MAX_CHALLENGES = 100;

/** Reads answers out of octets that come in pieces; what is too long or no answer ends it. */
export class AnswerReader {
  /** What came and was not read yet lies from `start` on, so long. */
  private store = Buffer.alloc(1_024);
  private start = 0;
  private length = 0;
  private failed: MailProblem | undefined;
  private wake: (() => void) | undefined;

  constructor(
    private readonly socket: Socket,
    private readonly host: string,
    private readonly patienceMs: number,
  ) {
    socket.on('data', (octets: Buffer) => {
      this.hold(octets);
      if (this.length > MAX_ANSWER) this.fail(this.unreadable('an answer that is too long'));
      this.wake?.();
    });
    socket.on('error', (cause: NodeJS.ErrnoException) =>
      this.fail(
        cause.code === 'ECONNREFUSED'
          ? new MailProblem('refused', `${host} takes no rules for mail to come: nothing answers there.`, { cause })
          : new MailProblem('connection-lost', `The connection to ${host} was lost.`, { cause }),
      ),
    );
    socket.on('close', () => this.fail(new MailProblem('connection-lost', `${host} closed the connection.`)));
  }

  /** What came before TLS was begun is nobody's word (RFC 5804 §2.2). */
  get isEmpty(): boolean {
    return this.length === 0;
  }

  /**
   * The next answer, whole.
   *
   * @param challenged is told a string that stands alone, in the course of AUTHENTICATE (RFC 5804 §2.1).
   */
  async answer(challenged?: (challenge: string) => Promise<void>): Promise<Answer> {
    const lines: Value[][] = [];
    for (let at = 0; at < (challenged ? MAX_CHALLENGES : MAX_LINES); at++) {
      const line = await this.line();
      const [first] = line;
      if (first && 'string' in first) {
        if (challenged && line.length === 1) await challenged(first.string);
        else lines.push(line);
        continue;
      }
      if (!first || !/^(OK|NO|BYE)$/i.test(first.atom)) throw this.unreadable('a line of another kind');
      const code = line[1] && 'atom' in line[1] ? line[1].atom : '';
      const last = line.at(-1);
      return {
        status: first.atom.toUpperCase() as Answer['status'],
        code,
        text: last && 'string' in last ? last.string : '',
        lines,
      };
    }
    throw this.unreadable('too many lines');
  }

  private async line(): Promise<Value[]> {
    const values: Value[] = [];
    let at = 0;
    const octet = async (index: number) => {
      while (index >= this.length) await this.more();
      return this.store[this.start + index] as number;
    };
    for (;;) {
      const sign = String.fromCharCode(await octet(at));
      if (sign === '\r' || sign === '\n') {
        at++;
        if (sign === '\r' && (await octet(at)) === 10) at++;
        this.start += at;
        this.length -= at;
        return values;
      }
      if (sign === ' ') at++;
      else if (sign === '"') {
        const octets: number[] = [];
        for (at++; (await octet(at)) !== 34; at++) {
          if ((await octet(at)) === 92) at++;
          octets.push(await octet(at));
        }
        at++;
        values.push({ string: Buffer.from(octets).toString('utf8') });
      } else if (sign === '{') {
        let head = '';
        for (at++; (await octet(at)) !== 10; at++) {
          head += String.fromCharCode(await octet(at));
          if (head.length > 20) throw this.unreadable('a literal without a length');
        }
        const length = Number(/^(\d{1,9})\+?\}\r?$/.exec(head)?.[1] ?? Number.NaN);
        if (!(length <= MAX_ANSWER)) throw this.unreadable('a literal without a length');
        at++;
        await octet(at + Math.max(0, length - 1));
        values.push({ string: this.store.subarray(this.start + at, this.start + at + length).toString('utf8') });
        at += length;
      } else if (sign === '(') {
        let code = '';
        let depth = 1;
        for (at++; ; at++) {
          const inner = String.fromCharCode(await octet(at));
          if (inner === '\n' || code.length > 1_000) throw this.unreadable('a code that never ends');
          if (inner === '(') depth++;
          if (inner === ')' && --depth === 0) break;
          code += inner;
        }
        at++;
        values.push({ atom: code });
      } else {
        let atom = '';
        for (; !' \r\n"{('.includes(String.fromCharCode(await octet(at))); at++)
          atom += String.fromCharCode(await octet(at));
        values.push({ atom });
      }
    }
  }

  unreadable(what: string): MailProblem {
    return new MailProblem('unreadable-answer', `${this.host} gave ${what}, which is no answer of ManageSieve.`);
  }

  /** Room is doubled where it is too little, so that octets one by one cost no more than all at once. */
  private hold(octets: Buffer): void {
    if (this.start + this.length + octets.length > this.store.length) {
      const larger = Buffer.alloc(2 * (this.length + octets.length));
      this.store.copy(larger, 0, this.start, this.start + this.length);
      this.store = larger;
      this.start = 0;
    }
    octets.copy(this.store, this.start + this.length);
    this.length += octets.length;
  }

  private more(): Promise<void> {
    if (this.failed) throw this.failed;
    return new Promise((resolve, reject) => {
      const timer = setTimeout(
        () => this.fail(new MailProblem('timed-out', `${this.host} did not answer in time.`)),
        this.patienceMs,
      );
      this.wake = () => {
        clearTimeout(timer);
        this.wake = undefined;
        if (this.failed) reject(this.failed);
        else resolve();
      };
    });
  }

  private fail(problem: MailProblem): void {
    this.failed ??= problem;
    this.socket.destroy();
    this.wake?.();
  }
}
