import type { AddressInfo } from 'node:net';
import { SMTPServer } from 'smtp-server';
import type { Mailbox } from './mailbox/mailbox';

/** A mail that was handed in. */
export interface Taken {
  to: string[];
  octets: Buffer;
}

const MAX_OCTETS = 2 ** 20;

/** A submission server on loopback that delivers nothing anywhere but into the mailbox of the one user. */
export class Submission {
  readonly taken: Taken[] = [];

  private constructor(private readonly server: SMTPServer) {}

  static async start(user: string, mailbox: Mailbox, port = 0): Promise<Submission> {
    const server = new SMTPServer({
      authOptional: true,
      disabledCommands: ['AUTH', 'STARTTLS'],
      size: MAX_OCTETS,
      disableReverseLookup: true,
      onData(stream, session, done) {
        const chunks: Buffer[] = [];
        stream.on('data', (chunk: Buffer) => chunks.push(chunk));
        stream.on('end', () => {
          const to = session.envelope.rcptTo.map(({ address }) => address);
          const octets = Buffer.concat(chunks);
          submission.taken.push({ to, octets });
          const inbox = mailbox.folder('INBOX');
          if (inbox && to.includes(user)) mailbox.append(inbox, octets, Math.floor(Date.now() / 1000), []);
          done();
        });
      },
    });
    server.on('error', () => undefined);
    const submission = new Submission(server);
    await new Promise<void>((resolve) => server.listen(port, '127.0.0.1', resolve));
    return submission;
  }

  get port(): number {
    return (this.server.server.address() as AddressInfo).port;
  }

  stop(): Promise<void> {
    return new Promise((resolve) => this.server.close(() => resolve()));
  }
}
