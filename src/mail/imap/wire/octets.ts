import type { Readable, Writable } from 'node:stream';
import { setImmediate as breathe } from 'node:timers/promises';
import { MailProblem } from '../../problem';

/** Octets that wait to be read, beyond which the server is left waiting. */
const MAX_WAITING = 512 * 1024;

/** Where the octets of a connection come from and go to, and who parses them while they are not borrowed. */
export interface Octets {
  source: Readable;
  parser: Writable;
  sink: Writable;
}

/** Who made a connection, and lends it. */
export interface Lender {
  isUsable: boolean;
  octets: Octets | undefined;
  /** @returns forgets it. */
  onClose(hear: () => void): () => void;
}

/**
 * The octets of a connection that the library made: while they are borrowed, what the server sends comes here instead of to
 * the library's parser. Nothing may be asked of the library meanwhile.
 */
export class BorrowedOctets {
  private readonly waiting: Buffer[] = [];
  private length = 0;
  private lost = false;
  private wake: (() => void) | undefined;
  private readonly forgetClose: () => void;

  private readonly hear = (chunk: Buffer) => {
    this.waiting.push(chunk);
    this.length += chunk.length;
    if (this.length > MAX_WAITING) this.octets.source.pause();
    this.wake?.();
  };
  private readonly lose = () => {
    this.lost = true;
    this.wake?.();
  };

  private constructor(
    lender: Lender,
    private readonly octets: Octets,
  ) {
    const { source, parser } = octets;
    source.unpipe(parser);
    source.on('data', this.hear).on('end', this.lose).on('close', this.lose);
    this.forgetClose = lender.onClose(this.lose);
    source.resume();
  }

  static from(lender: Lender): BorrowedOctets {
    const { octets } = lender;
    if (!lender.isUsable || !octets) throw lost();
    return new BorrowedOctets(lender, octets);
  }

  send(octets: string | Buffer): void {
    this.octets.sink.write(octets);
  }

  /** Sends, and waits until the line takes more. Throws a MailProblem once the connection is lost. */
  async sendWhole(octets: Uint8Array): Promise<void> {
    if (this.lost) throw lost();
    const { sink } = this.octets;
    if (sink.write(octets)) return;
    await new Promise<void>((resolve) => {
      const done = () => {
        sink.off('drain', done).off('close', done);
        resolve();
      };
      sink.on('drain', done).on('close', done);
    });
  }

  /**
   * The next octets, and how long they were waited for, in milliseconds. Throws a MailProblem once the connection is lost.
   *
   * @param patience milliseconds to wait at most; undefined octets where none came within them.
   */
  async next(patience: number): Promise<{ octets: Buffer | undefined; waited: number }> {
    const asked = performance.now();
    while (this.waiting.length === 0) {
      if (this.lost) throw lost();
      const left = patience - (performance.now() - asked);
      if (left <= 0) return { octets: undefined, waited: performance.now() - asked };
      await this.woken(left);
    }
    const waited = performance.now() - asked;
    // Others are served between two pieces: other connections, the database, the lease.
    await breathe();
    const octets = this.waiting.shift() as Buffer;
    this.length -= octets.length;
    const { source } = this.octets;
    if (source.isPaused() && this.length < MAX_WAITING / 2) source.resume();
    return { octets, waited };
  }

  private async woken(milliseconds: number): Promise<void> {
    let timer: NodeJS.Timeout | undefined;
    await new Promise<void>((resolve) => {
      this.wake = resolve;
      timer = setTimeout(resolve, milliseconds);
    });
    clearTimeout(timer);
    this.wake = undefined;
  }

  /** Gives the octets back to the library's parser, with the beginning of a response that was read and not used. */
  giveBack(rest: Buffer): void {
    const { source, parser } = this.octets;
    source.off('data', this.hear).off('end', this.lose).off('close', this.lose);
    this.forgetClose();
    if (this.lost) return;
    for (const unused of [rest, ...this.waiting]) if (unused.length > 0) parser.write(unused);
    source.pipe(parser);
  }
}

function lost(): MailProblem {
  return new MailProblem('connection-lost', 'The connection to the mail server was lost.');
}
