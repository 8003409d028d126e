import { numbered, safeName } from './safe-name';

/** Levels of folders that a path keeps; deeper ones are one name with the last. */
const MAX_LEVELS = 12;

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
  const levels = folder.split('/');
  const rest = levels.slice(MAX_LEVELS - 1).join('_');
  const names = [...levels.slice(0, MAX_LEVELS - 1), ...(rest === '' ? [] : [rest])];
  const name = safeName(`${day} ${author || 'unknown sender'}, ${subject || 'no subject'}`, day);
  return [...names.map((level) => safeName(level, 'folder')), numbered(`${name}.eml`, id)].join('/');
}
