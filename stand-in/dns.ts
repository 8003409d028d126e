import { createSocket, type Socket } from 'node:dgram';
import type { AddressInfo } from 'node:net';
import { type Answer, decode, encode, RECURSION_DESIRED } from 'dns-packet';

/** What a name server knows of a name: answers of any types, or what it answers the next time it is asked. */
export type Records = Record<string, Answer[] | ((type: string) => Answer[])>;

/** A name server on loopback (RFC 1035) that knows the names it is told, and of no others. */
export class NameServer {
  /** Names that were asked for, with the type. */
  readonly asked: string[] = [];

  private constructor(
    private readonly socket: Socket,
    public records: Records,
  ) {
    socket.on('message', (message, from) => {
      const { id, questions = [] } = decode(message);
      const [question] = questions;
      const name = question?.name.toLowerCase() ?? '';
      this.asked.push(`${question?.type} ${name}`);
      const known = this.records[name];
      const all = typeof known === 'function' ? known(`${question?.type}`) : (known ?? []);
      const answers = all.filter(({ type }) => type === question?.type || type === 'CNAME');
      // RCODE 3: there is no such name.
      const flags = RECURSION_DESIRED | (known ? 0 : 3);
      this.socket.send(encode({ type: 'response', id: id ?? 0, flags, questions, answers }), from.port, from.address);
    });
  }

  static async start(records: Records): Promise<NameServer> {
    const socket = createSocket('udp4');
    await new Promise<void>((resolve) => socket.bind(0, '127.0.0.1', resolve));
    return new NameServer(socket, records);
  }

  /** As TAMSEL_DNS takes it. */
  get address(): string {
    return `127.0.0.1:${(this.socket.address() as AddressInfo).port}`;
  }

  stop(): Promise<void> {
    return new Promise((resolve) => this.socket.close(() => resolve()));
  }
}
