import { safeLevels } from './safe-levels';
import { numbered, safeName } from './safe-name';

/** What names the file of a message. */
export interface NamedMessage {
  /** Its number in the archive. */
  id: number;
  /** The path of the folder that it was in. */
  folder: string;
  /** Its day, such as 2023-08-06. */
  day: string;
  /** Display name, else address, of the author; '' where there is none. */
  author: string;
  subject: string;
}

/**
 * Where a message is among others as files: `Committee/Minutes/2023-08-06 Odile Marchbanks, Open day (17).eml`. The number makes
 * each path the only one, in any letter case, and always the same.
 */
export function emlPath({ id, folder, day, author, subject }: NamedMessage): string {
  const name = safeName(`${day} ${author || 'unknown sender'}, ${subject || 'no subject'}`, day);
  return [...safeLevels(folder), numbered(`${name}.eml`, id)].join('/');
}
