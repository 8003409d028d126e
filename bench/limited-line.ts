import { createConnection, createServer, type Socket } from 'node:net';

/** A line to a server that carries so many octets a second, all connections and both ways together. */
export interface LimitedLine {
  port: number;
  close(): void;
}

/** @param speed octets a second. */
export async function limitedLine(to: number, speed: number): Promise<LimitedLine> {
  /** When the line is free again, in milliseconds. */
  let freeAt = 0;
  const carry = (from: Socket, into: Socket) => {
    from.on('data', (octets: Buffer) => {
      from.pause();
      freeAt = Math.max(performance.now(), freeAt) + (octets.length / speed) * 1_000;
      setTimeout(() => {
        into.write(octets);
        from.resume();
      }, freeAt - performance.now());
    });
    from.on('close', () => into.destroy());
    from.on('error', () => into.destroy());
  };
  const server = createServer((client) => {
    const host = createConnection(to, '127.0.0.1');
    carry(client, host);
    carry(host, client);
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  return { port: (server.address() as { port: number }).port, close: () => server.close() };
}
