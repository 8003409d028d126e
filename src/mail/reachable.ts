import { connect, type Socket } from 'node:net';

/** How long an address is tried alone before the next is tried beside it (RFC 8305 §8). */
const HEAD_START_MS = 250;
const PATIENCE_MS = 10_000;
/** Addresses of one host that are tried. */
const MAX_TRIED = 8;
/** What took connections is asked first for so long. */
const REMEMBERED_MS = 300_000;
const MAX_REMEMBERED = 1_000;

const remembered = new Map<string, { address: string; until: number }>();

/**
 * Of the addresses of a host one that takes connections, in the way of RFC 8305: a host may have an address in a family of which
 * this machine has no way out. Gives the first where none takes any, so that who connects to it learns why.
 *
 * @param addresses at least one; each was checked.
 */
export async function reachable(addresses: readonly string[], port: number): Promise<string> {
  const first = addresses[0] as string;
  if (addresses.length === 1) return first;
  const key = `${addresses.join()} ${port}`;
  const known = remembered.get(key);
  if (known && known.until > Date.now()) return known.address;
  const found = await race(addresses.slice(0, MAX_TRIED), port);
  if (found === undefined) return first;
  if (remembered.size >= MAX_REMEMBERED) remembered.clear();
  remembered.set(key, { address: found, until: Date.now() + REMEMBERED_MS });
  return found;
}

function race(addresses: readonly string[], port: number): Promise<string | undefined> {
  const sockets: Socket[] = [];
  let next = 0;
  let failed = 0;
  return new Promise<string | undefined>((resolve) => {
    let waiting: NodeJS.Timeout | undefined;
    const patience = setTimeout(() => end(undefined), PATIENCE_MS);
    const end = (address: string | undefined) => {
      clearTimeout(waiting);
      clearTimeout(patience);
      for (const socket of sockets) socket.destroy();
      resolve(address);
    };
    const tryNext = () => {
      clearTimeout(waiting);
      const address = addresses[next++];
      if (address === undefined) return;
      const socket = connect({ host: address, port });
      sockets.push(socket);
      socket.once('connect', () => end(address));
      socket.once('error', () => {
        if (++failed === addresses.length) end(undefined);
        else tryNext();
      });
      waiting = setTimeout(tryNext, HEAD_START_MS);
    };
    tryNext();
  });
}
