import { createConnection, createServer, type Socket } from 'node:net';

/** A line to a server that carries so many octets a second: all connections and both ways together, or each connection. */
export interface LimitedLine {
  port: number;
  close(): void;
}

/** A line to a server on which everything is so many milliseconds on its way, whatever else is. */
export async function longLine(to: number, latencyMs: number): Promise<LimitedLine> {
  const carry = (from: Socket, into: Socket) => {
    from.on('data', (octets: Buffer) => setTimeout(() => into.write(octets), latencyMs));
    from.on('close', () => setTimeout(() => into.destroy(), latencyMs));
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

/**
 * @param speed octets a second.
 * @param isOfEach whether that is the speed of each connection, as at hosts that slow each down.
 */
export async function limitedLine(to: number, speed: number, isOfEach = false): Promise<LimitedLine> {
  /** When a line is free again, in milliseconds. */
  const shared = { freeAt: 0 };
  const carry = (from: Socket, into: Socket, line: { freeAt: number }) => {
    from.on('data', (octets: Buffer) => {
      from.pause();
      line.freeAt = Math.max(performance.now(), line.freeAt) + (octets.length / speed) * 1_000;
      setTimeout(() => {
        into.write(octets);
        from.resume();
      }, line.freeAt - performance.now());
    });
    from.on('close', () => into.destroy());
    from.on('error', () => into.destroy());
  };
  const server = createServer((client) => {
    const host = createConnection(to, '127.0.0.1');
    const line = isOfEach ? { freeAt: 0 } : shared;
    carry(client, host, line);
    carry(host, client, line);
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  return { port: (server.address() as { port: number }).port, close: () => server.close() };
}
