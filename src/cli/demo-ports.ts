import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { freePort } from './cluster';
import { EXIT, Stop } from './exits';
import { checkPort, isFree } from './ports';

/** A service of the demo's mail host: the variable that sets its port, the usual port, and the argument of the mail host. */
const SERVICES = [
  ['TAMSEL_DEMO_IMAPS_PORT', 4993, '--tls-port'],
  ['TAMSEL_DEMO_IMAP_PORT', 4143, '--plain-port'],
  ['TAMSEL_DEMO_AUTHORIZATION_PORT', 4180, '--authorization-port'],
  ['TAMSEL_DEMO_LEAVING_PORT', 4943, '--leaving-port'],
  ['TAMSEL_DEMO_FILES_PORT', 4880, '--files-port'],
] as const;

const HOST = '127.0.0.1';

/**
 * Chooses the ports of the demo's mail host, and changes nothing. An account is known by its port, so each data folder keeps its ports
 * from one start to the next. The first start takes the usual ports, or free ones if another demo uses those.
 *
 * @param data the demo's data folder, which may not exist yet.
 * @returns arguments for the mail host, and what keeps the ports in the data folder for the next start.
 * @throws Stop where a port that has to be the same is taken.
 */
export async function demoPorts(data: string): Promise<{ args: string[]; keep(): void }> {
  const file = join(data, 'ports.json');
  const isFirst = !existsSync(file) && !existsSync(join(data, 'stand-in'));
  const kept: Record<string, number> = existsSync(file) ? JSON.parse(readFileSync(file, 'utf8')) : {};
  const ports: Record<string, number> = {};
  const args: string[] = [];
  for (const [variable, usual, argument] of SERVICES) {
    const asked = process.env[variable];
    let port = asked ? portIn(variable, asked) : (kept[variable] ?? usual);
    if (isFirst && !asked && !(await isFree(HOST, port))) port = await freePort();
    await checkPort(variable, HOST, port);
    ports[variable] = port;
    args.push(argument, `${port}`);
  }
  return { args, keep: () => writeFileSync(file, JSON.stringify(ports), { mode: 0o600 }) };
}

function portIn(variable: string, text: string): number {
  const port = Number(text);
  if (Number.isInteger(port) && port > 0 && port < 65_536) return port;
  throw new Stop(EXIT.usage, `${variable} is no port: ${text}.`);
}
