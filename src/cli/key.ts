import { randomBytes } from 'node:crypto';
import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { homedir } from 'node:os';
import { dirname, join } from 'node:path';
import { Vault } from '../store/access/vault';
import type { Purpose } from './data-folder';
import { EXIT, Stop } from './exits';

/** The file in the data folder that says which key is its own. */
const INSTANCE = 'instance';

/**
 * The key file of a data folder. It lies apart from the data, so that whoever copies the folder has no passwords: in
 * `$XDG_CONFIG_HOME/tamsel/`, else `~/.config/tamsel/` (XDG Base Directory Specification), by a name that the data folder knows.
 * The demo's lies in its data folder, and so does one of a data folder from before there was this rule.
 */
export function keyFileOf(data: string, purpose: Purpose): string {
  if (process.env.TAMSEL_KEY_FILE) return process.env.TAMSEL_KEY_FILE;
  const inside = join(data, 'key');
  const instance = join(data, INSTANCE);
  if (purpose === 'demo' || existsSync(inside) || !existsSync(instance)) return inside;
  return fileOf(readFileSync(instance, 'utf8').trim());
}

/** The same for a data folder that is about to be used: a new one gets a name for its key. */
export function ownKeyFileOf(data: string, purpose: Purpose): string {
  const instance = join(data, INSTANCE);
  if (purpose !== 'demo' && !existsSync(join(data, 'key')) && !existsSync(instance))
    writeFileSync(instance, `${randomBytes(8).toString('hex')}\n`, { mode: 0o600 });
  const file = keyFileOf(data, purpose);
  try {
    mkdirSync(dirname(file), { recursive: true, mode: 0o700 });
  } catch {
    throw new Stop(EXIT.fileWrong, `${dirname(file)} can't be made. Set TAMSEL_KEY_FILE to where the key may lie.`);
  }
  return file;
}

function fileOf(instance: string): string {
  return join(process.env.XDG_CONFIG_HOME || join(homedir(), '.config'), 'tamsel', `${instance}.key`);
}

/** The keys of a file that must be there. @throws Stop where it is not, or can be read by others. */
export function existingKeys(path: string): Vault {
  try {
    return Vault.existing(path);
  } catch (error) {
    throw new Stop(EXIT.fileWrong, (error as Error).message);
  }
}

/**
 * Makes sure that there is a key. One that is missing is made for new data only: what was sealed with another opens no more.
 *
 * @throws Stop where data is there without its key, or the file can't be used.
 */
export function ensureKey(file: string, hasData: boolean): void {
  if (hasData && !existsSync(file))
    throw new Stop(
      EXIT.fileWrong,
      `The key file ${file} is missing. Without it no kept password opens and no ledger can be checked. Put it back, or set TAMSEL_KEY_FILE to where it is. If it is lost for good, make a new one: (umask 077; openssl rand -hex 32 > ${file}). Everybody then signs in again.`,
    );
  try {
    Vault.open(file);
  } catch (error) {
    throw new Stop(EXIT.fileWrong, (error as Error).message);
  }
}
