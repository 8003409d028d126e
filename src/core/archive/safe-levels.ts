import { safeName } from './safe-name';

/** Levels of folders that a path keeps; deeper ones are one name with the last. */
const MAX_LEVELS = 12;

/** The levels of a mail folder as safe names, from the outermost. @param folder its path, levels parted by `/`. */
export function safeLevels(folder: string): string[] {
  const levels = folder.split('/');
  const rest = levels.slice(MAX_LEVELS - 1).join('_');
  const kept = levels.slice(0, MAX_LEVELS - 1);
  return (rest === '' ? kept : [...kept, rest]).map((level) => safeName(level, 'folder'));
}
