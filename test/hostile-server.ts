import { type AddressInfo, createServer, type Socket } from 'node:net';
import { later } from './harness';

/** What a hostile server does with one command; undefined answers it as a mailbox with one empty inbox does. */
export type Malice = (command: string, tag: string, socket: Socket) => boolean | undefined;

const CAPABILITIES = 'IMAP4rev1 LITERAL+ ESEARCH UIDPLUS MOVE ENABLE CONDSTORE QRESYNC LIST-STATUS NAMESPACE QUOTA';

/**
 * An IMAP server of the tests' own that answers some commands as no server should: it signs everybody in, has an inbox of
 * `messages` messages, and lets `malice` answer what it wants to on all connections but the first.
 */
export async function startHostile(malice: Malice, messages = 5): Promise<{ port: number; connections: () => number }> {
  let connections = 0;
  const sockets = new Set<Socket>();
  const server = createServer((socket) => {
    // Whoever signs in is let in; what is hostile comes after.
    const isHostile = connections++ > 0;
    sockets.add(socket);
    socket.on('error', () => undefined);
    socket.on('close', () => sockets.delete(socket));
    socket.write(`* OK [CAPABILITY ${CAPABILITIES}] ready\r\n`);
    let rest = '';
    socket.on('data', (chunk) => {
      rest += chunk.toString('latin1');
      for (let end = rest.indexOf('\r\n'); end >= 0; end = rest.indexOf('\r\n')) {
        const line = rest.slice(0, end);
        rest = rest.slice(end + 2);
        const tag = line.split(' ')[0] as string;
        const command = line.slice(tag.length + 1);
        if (!isHostile || !malice(command, tag, socket)) socket.write(usual(command, tag, messages));
      }
    });
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  later(() => {
    for (const socket of sockets) socket.destroy();
    server.close();
  });
  return { port: (server.address() as AddressInfo).port, connections: () => connections };
}

function usual(command: string, tag: string, messages: number): string {
  const status = `* STATUS INBOX (MESSAGES ${messages} UIDNEXT ${messages + 1} UIDVALIDITY 9 HIGHESTMODSEQ 3)\r\n`;
  const all = Array.from({ length: messages }, (_, index) => index + 1);
  const untagged = command.startsWith('CAPABILITY')
    ? `* CAPABILITY ${CAPABILITIES}\r\n`
    : command.startsWith('LIST')
      ? `* LIST () "/" INBOX\r\n${status}`
      : command.startsWith('STATUS')
        ? status
        : command.startsWith('NAMESPACE')
          ? '* NAMESPACE (("" "/")) NIL NIL\r\n'
          : command.startsWith('SELECT')
            ? `* ${messages} EXISTS\r\n* OK [UIDVALIDITY 9] x\r\n* OK [UIDNEXT ${messages + 1}] x\r\n* OK [HIGHESTMODSEQ 3] x\r\n`
            : command.startsWith('UID SEARCH')
              ? `* ESEARCH (TAG "${tag}") UID${messages > 0 ? ` ALL 1:${messages}` : ''} COUNT ${messages}\r\n`
              : /^(UID )?FETCH/.test(command)
                ? all
                    .map(
                      (uid) =>
                        `* ${uid} FETCH (UID ${uid} FLAGS () RFC822.SIZE ${100 + uid} INTERNALDATE "01-Jan-2020 00:00:00 +0000")\r\n`,
                    )
                    .join('')
                : '';
  return `${untagged}${tag} OK done\r\n`;
}
