import { connect } from 'node:net';
import { until } from '../harness';

/** A general mail server that was started for a check, with one empty mailbox. It ends with the test. */
export interface MailHost {
  name: string;
  port: number;
  user: string;
  password: string;
  /** How the names of folders begin: the prefix of the personal namespace, and the delimiter. */
  prefix: string;
  delimiter: string;
  /** Where ManageSieve listens, and LMTP; 0 where the server has neither. */
  sievePort: number;
  lmtpPort: number;
  /** Stops the server in the midst of what it does, or lets it go on. */
  pause(isPaused: boolean): void;
}

/** The user, by its name alone, and the domain of its address. */
export const USER = 'secretary';
export const DOMAIN = 'saltmarshlane.example';
export const PASSWORD = 'allotment';

/** Waits until a server greets whoever connects. */
export async function listens(port: number): Promise<void> {
  const greets = () =>
    new Promise<boolean>((resolve) => {
      const socket = connect(port, '127.0.0.1');
      socket.once('data', () => {
        socket.destroy();
        resolve(true);
      });
      socket.once('error', () => resolve(false));
      socket.once('close', () => resolve(false));
    });
  await until(greets, 60);
}

/** Stops all processes of a group, or lets them go on. */
export function pauseGroup(pid: number | undefined, isPaused: boolean): void {
  process.kill(-(pid as number), isPaused ? 'SIGSTOP' : 'SIGCONT');
}
