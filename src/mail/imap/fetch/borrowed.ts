import type { Readable, Writable } from 'node:stream';
import { setImmediate as breathe } from 'node:timers/promises';
import type { ImapFlow } from 'imapflow';
import { MailProblem } from '../../problem';

/** Octets that wait to be decoded, beyond which the server is left waiting. */
const MOST_WAITING = 512 * 1024;

/** What of imapflow a loan takes, which its types leave out: octets come from a socket, or what inflates its octets. */
interface Insides {
  socket: Readable;
  _inflate?: Readable | null;
  streamer: Writable;
  writeSocket: Writable;
}

/**
 * The octets of a connection that imapflow made and will go on with: while it is borrowed, what the server sends comes here
 * instead of to imapflow's parser. Nothing else may be asked of the client meanwhile.
 */
export class BorrowedConnection {
  private readonly source: Readable;
  private readonly waiting: Buffer[] = [];
  private octets = 0;
  private lost = false;
  private wake: (() => void) | undefined;

  private readonly hear = (chunk: Buffer) => {
    this.waiting.push(chunk);
    this.octets += chunk.length;
    if (this.octets > MOST_WAITING) this.source.pause();
    this.wake?.();
  };
  private readonly lose = () => {
    this.lost = true;
    this.wake?.();
  };

  private constructor(
    private readonly client: ImapFlow,
    private readonly insides: Insides,
  ) {
    this.source = insides._inflate ?? insides.socket;
  }

  static from(client: ImapFlow): BorrowedConnection {
    const insides = client as unknown as Partial<Insides>;
    if (!client.usable || !insides.socket || !insides.writeSocket || !insides.streamer)
      throw new MailProblem('connection-lost', 'The connection to the mail server was lost.');
    const borrowed = new BorrowedConnection(client, insides as Insides);
    borrowed.take();
    return borrowed;
  }

  private take(): void {
    const { source, client } = this;
    source.unpipe(this.insides.streamer);
    source.on('data', this.hear).on('end', this.lose).on('close', this.lose);
    client.on('close', this.lose);
    source.resume();
  }

  send(line: string): void {
    this.insides.writeSocket.write(`${line}\r\n`);
  }

  /** The next octets. Throws a MailProblem once the connection is lost. */
  async next(): Promise<Buffer> {
    while (this.waiting.length === 0) {
      if (this.lost) throw new MailProblem('connection-lost', 'The connection to the mail server was lost.');
      await new Promise<void>((resolve) => {
        this.wake = resolve;
      });
      this.wake = undefined;
    }
    // Others are served between two pieces: other connections, the database, the lease.
    await breathe();
    const chunk = this.waiting.shift() as Buffer;
    this.octets -= chunk.length;
    if (this.source.isPaused() && this.octets < MOST_WAITING / 2) this.source.resume();
    return chunk;
  }

  /** Gives the connection back, with the beginning of a response that was read and not used. */
  giveBack(rest: Buffer): void {
    const { source, client, insides } = this;
    source.off('data', this.hear).off('end', this.lose).off('close', this.lose);
    client.off('close', this.lose);
    if (this.lost) return;
    for (const unused of [rest, ...this.waiting]) if (unused.length > 0) insides.streamer.write(unused);
    source.pipe(insides.streamer);
  }

  /** Ends the connection, since answers are under way that nobody waits for. */
  end(): void {
    this.client.close();
    this.giveBack(Buffer.alloc(0));
  }
}
