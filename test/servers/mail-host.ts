import { connect } from 'node:net';
import { setTimeout as sleep } from 'node:timers/promises';

/** A general mail server that was started for a check, with one empty mailbox. */
export interface MailHost {
  name: string;
  port: number;
  user: string;
  password: string;
  /** How the names of folders begin: the prefix of the personal namespace, and the delimiter. */
  prefix: string;
  delimiter: string;
  /** Sets the limit of the mailbox, in KiB. */
  limit(kib: number): void;
  stop(): Promise<void>;
}

export const USER = 'secretary';
export const PASSWORD = 'allotment';

export async function listens(port: number): Promise<void> {
  for (let tries = 0; tries < 100; tries++) {
    const open = await new Promise<boolean>((resolve) => {
      const socket = connect(port, '127.0.0.1');
      socket.once('data', () => {
        socket.destroy();
        resolve(true);
      });
      socket.on('error', () => resolve(false));
    });
    if (open) return;
    await sleep(100);
  }
  throw new Error(`Nothing answers at port ${port}.`);
}
