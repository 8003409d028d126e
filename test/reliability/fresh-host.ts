import { StandIn, type StandInOptions } from '../../stand-in/host';

const used = new Set<number>();

/**
 * A host at a port that none of this process had before: an account is known by its host, port and user, so that at the same port
 * the mailbox of an earlier trial would be taken for this one.
 */
export async function freshHost(options: StandInOptions): Promise<StandIn> {
  for (;;) {
    const host = await StandIn.start(options);
    const isFresh = !used.has(host.plainPort);
    used.add(host.plainPort);
    if (isFresh) return host;
    await host.stop();
  }
}
