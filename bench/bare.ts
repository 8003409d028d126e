import { createConnection, type Socket } from 'node:net';
import { DOVECOT_PASSWORD, DOVECOT_USER, type Dovecot } from '../test/dovecot';

/** Octets of the longest tagged answer: that to LOGIN lists all capabilities. */
const MAX_LINE_LENGTH = 4_000;

/** A socket that sends commands and throws the answers away. */
export class Bare {
  private tag = 0;
  private constructor(private readonly socket: Socket) {}

  static async open(
    { plainPort }: Pick<Dovecot, 'plainPort'>,
    who = { user: DOVECOT_USER, password: DOVECOT_PASSWORD },
  ): Promise<Bare> {
    const socket = createConnection(plainPort, '127.0.0.1');
    await new Promise((resolve) => socket.once('data', resolve));
    const bare = new Bare(socket);
    await bare.command(`LOGIN ${who.user} ${who.password}`);
    return bare;
  }

  /** Gives the octets of the answer. */
  command(text: string): Promise<number> {
    const tag = `t${++this.tag}`;
    this.socket.write(`${tag} ${text}\r\n`);
    return new Promise((resolve, reject) => {
      let octets = 0;
      let tail = '';
      const hear = (chunk: Buffer) => {
        octets += chunk.length;
        tail = (tail + chunk.toString('latin1', Math.max(0, chunk.length - MAX_LINE_LENGTH))).slice(-MAX_LINE_LENGTH);
        const end = new RegExp(`(?:^|\\n)${tag} (OK|NO|BAD)[^\\n]*\\n$`).exec(tail);
        if (!end) return;
        this.socket.off('data', hear);
        if (end[1] === 'OK') resolve(octets);
        else reject(new Error(end[0]));
      };
      this.socket.on('data', hear);
    });
  }

  close(): void {
    this.socket.destroy();
  }
}

export async function timed<T>(act: () => Promise<T>): Promise<{ seconds: number; result: T }> {
  const started = process.hrtime.bigint();
  const result = await act();
  return { seconds: Number(process.hrtime.bigint() - started) / 1e9, result };
}
