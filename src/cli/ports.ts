import { createServer } from 'node:net';
import { EXIT, Stop } from './exits';

/** True if nobody listens there, and we may. */
export function isFree(host: string, port: number): Promise<boolean> {
  return new Promise((resolve) => {
    const probe = createServer();
    probe.once('error', () => resolve(false));
    probe.listen(port, host, () => probe.close(() => resolve(true)));
  });
}

/** @throws Stop where a port is taken; found out before anything is started. */
export async function checkPort(variable: string, host: string, port: number): Promise<void> {
  if (!(await isFree(host, port)))
    throw new Stop(EXIT.portTaken, `Port ${port} on ${host} is taken or can't be used. Set ${variable} to another.`);
}
