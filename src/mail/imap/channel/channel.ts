import { MailProblem } from '../../problem';
import { BorrowedOctets } from '../wire/octets';
import type { Status } from '../wire/status';
import { type Body, type Command, Dialogue, type Sent, type Untagged } from './dialogue';
import type { Library } from './library';
import { refusal } from './refusals';

/**
 * A dialogue over a signed-in connection. Nothing is read but while an answer is waited for, so what nobody asked for costs
 * no memory.
 */
export class Channel {
  /** Octets that were read. */
  octetsRead = 0;
  private octets: BorrowedOctets;
  private readonly dialogue: Dialogue;
  private reading: Promise<void> | undefined;

  /** @param unasked is called for responses that belong to no command. */
  constructor(
    private readonly library: Library,
    unasked: (response: Untagged) => void,
  ) {
    this.octets = BorrowedOctets.from(library);
    this.dialogue = new Dialogue({
      send: (octets) => this.octets.send(octets),
      pour: (body, sent) => this.pour(body, sent),
      sendsLiterals: () => library.capabilities.has('LITERAL+'),
      unasked,
    });
  }

  /** Sends a command; `done` waits for its end. */
  send(command: Command): Sent {
    if (this.dialogue.broken) throw this.dialogue.broken;
    return this.dialogue.send(command);
  }

  /** Waits for the end of a command. Throws a MailProblem where it was refused, or its answer could not be read. */
  async done(sent: Sent): Promise<Status> {
    while (!sent.status) await this.step();
    if (sent.problem) throw sent.problem;
    const { kind, code } = sent.status;
    if (kind !== 'OK' && (code === '' || code !== sent.command.forgiven)) throw refusal(sent.status);
    return sent.status;
  }

  async run(command: Command): Promise<Status> {
    return this.done(this.send(command));
  }

  /** Reads once, whatever comes; all who wait at a time wait for the same. Throws a MailProblem once nothing more will come. */
  step(): Promise<void> {
    this.reading ??= this.read().finally(() => {
      this.reading = undefined;
    });
    return this.reading;
  }

  private async read(): Promise<void> {
    const { dialogue } = this;
    if (dialogue.broken) throw dialogue.broken;
    const { first } = dialogue;
    if (!first) throw new Error('Nothing is waited for.');
    try {
      const { octets, waited } = await this.octets.next(first.command.patience - first.waited);
      first.waited += waited;
      if (!octets) throw new MailProblem('timed-out', 'The server did not answer in time.');
      this.octetsRead += octets.length;
      dialogue.push(octets);
    } catch (error) {
      dialogue.break(this.explained(error));
    }
    if (!dialogue.broken) return;
    this.library.close();
    throw dialogue.broken;
  }

  private async pour(body: Body, sent: () => void): Promise<void> {
    let left = body.octets;
    try {
      for await (const octets of body.read()) {
        left -= octets.length;
        if (left < 0) break;
        await this.octets.sendWhole(octets);
        sent();
      }
      if (left !== 0) throw new Error('A message was not as long as was said.');
    } catch (error) {
      // Half a literal is on the line: nothing can be said behind it.
      this.dialogue.break(
        error instanceof MailProblem
          ? error
          : new MailProblem('connection-lost', 'Tamsel could not send a message to the server.', { cause: error }),
      );
      this.library.close();
    }
  }

  /** A server that says goodbye says why. */
  private explained(error: unknown): MailProblem {
    const { goodbye } = this.dialogue;
    if (!(error instanceof MailProblem))
      return new MailProblem('unreadable-answer', 'Tamsel could not read the server’s answer.', { cause: error });
    if (!goodbye?.words || error.kind !== 'connection-lost') return error;
    return new MailProblem(error.kind, `The server ended the connection. It said: “${goodbye.words}”.`);
  }

  /** Ends the connection, since answers are under way that nobody waits for. */
  abandon(): void {
    this.dialogue.break(new MailProblem('connection-lost', 'Tamsel closed the connection to the mail server.'));
    this.library.close();
  }

  /** Lends the connection to the library for a while. */
  async lend<T>(act: () => Promise<T>): Promise<T> {
    if (this.dialogue.broken) throw this.dialogue.broken;
    this.octets.giveBack(this.dialogue.rest());
    try {
      return await act();
    } finally {
      if (this.library.isUsable) this.octets = BorrowedOctets.from(this.library);
      else this.dialogue.break(new MailProblem('connection-lost', 'The connection to the mail server was lost.'));
    }
  }

  /** Says goodbye and waits for it for a moment, unless answers are under way. */
  async close(): Promise<void> {
    if (!this.dialogue.broken && !this.dialogue.first)
      await this.run({ pieces: ['LOGOUT'], patience: 2_000 }).catch(() => undefined);
    this.library.close();
  }
}
