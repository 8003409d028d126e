import { Vault } from '../store/vault';
import { EXIT, Stop } from './exits';

/** The keys of a file that must be there. @throws Stop where it is not, or can be read by others. */
export function existingKeys(path: string): Vault {
  try {
    return Vault.existing(path);
  } catch (error) {
    throw new Stop(EXIT.fileWrong, (error as Error).message);
  }
}
