/** A mail server that may be used: a name, or with a dot before it all names below; with a port or with any. */
interface Admitted {
  name: string;
  port: number | undefined;
}

/**
 * Reads the list of mail servers that may be used, parted by commas: `imap.mail-room.example`, `.mail-room.example`,
 * `imap.mail-room.example:993`.
 *
 * @returns undefined where there is no list: then every server may be.
 * @throws Error where an entry is none.
 */
export function onlyServers(list: string | undefined): readonly Admitted[] | undefined {
  const entries = (list ?? '').split(',').map((one) => one.trim().toLowerCase());
  if (entries.every((entry) => entry === '')) return undefined;
  return entries.filter(Boolean).map((entry) => {
    const match = /^(\.?[a-z0-9-]+(?:\.[a-z0-9-]+)*|\[[0-9a-f:.]+\])(?::([1-9]\d{0,4}))?$/.exec(entry);
    if (!match) throw new Error(`TAMSEL_ONLY_SERVERS names ${entry}, which is no server.`);
    const [, name = '', port] = match;
    return { name: name.replace(/^\[|\]$/g, ''), port: port === undefined ? undefined : Number(port) };
  });
}

/** Whether a server is one of those that may be used. */
export function isAdmitted(host: string, port: number, only: readonly Admitted[] | undefined): boolean {
  if (!only) return true;
  const name = host.toLowerCase().replace(/\.$/, '');
  return only.some(
    (one) =>
      (one.port === undefined || one.port === port) &&
      (one.name.startsWith('.') ? name.endsWith(one.name) : name === one.name),
  );
}
