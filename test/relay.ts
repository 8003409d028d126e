import { type AddressInfo, createConnection, createServer } from 'node:net';
import { later } from './harness';

/** Stands before a server, hears what clients say, and counts how often they wait: every time they speak after an answer. */
export class Relay {
  roundTrips = 0;
  connections = 0;
  /** What clients said. */
  said = '';
  /** Left out of what the server says. */
  unsaid = '';

  private constructor(private readonly address: () => AddressInfo) {}

  static async before(port: number): Promise<Relay> {
    const server = createServer();
    const relay = new Relay(() => server.address() as AddressInfo);
    server.on('connection', (client) => {
      const host = createConnection(port, '127.0.0.1');
      // The greeting is waited for as well.
      relay.connections++;
      relay.roundTrips++;
      let isAnswered = true;
      client.on('data', (octets) => {
        if (isAnswered) relay.roundTrips++;
        isAnswered = false;
        relay.said += octets.toString('latin1');
        host.write(octets);
      });
      host.on('data', (octets) => {
        isAnswered = true;
        client.write(relay.unsaid ? octets.toString('latin1').replaceAll(relay.unsaid, '') : octets, 'latin1');
      });
      for (const [one, other] of [
        [client, host],
        [host, client],
      ] as const)
        one.on('close', () => other.destroy()).on('error', () => other.destroy());
    });
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    later(() => server.close());
    return relay;
  }

  get port(): number {
    return this.address().port;
  }
}
