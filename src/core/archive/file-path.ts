import { safeName } from './safe-name';

/** What of a file and its message its place in a bag is told from. */
export interface FiledAs {
  name: string;
  /** Media type, for a file without a name. */
  type: string;
  /** The day of its message, such as 2023-08-06. */
  day: string;
  /** Display name, else address, of the author; '' where there is none. */
  author: string;
}

/** Endings of files without a name, by media type. */
const ENDINGS: Readonly<Record<string, string>> = {
  'image/jpeg': '.jpg',
  'image/png': '.png',
  'image/gif': '.gif',
  'application/pdf': '.pdf',
  'text/plain': '.txt',
  'text/html': '.html',
  'text/calendar': '.ics',
  'message/rfc822': '.eml',
};

/** Folder and name of a file in a bag: `2023/2023-08-06 Odile Marchbanks` and `open-day-03.jpg`. Levels are parted by `/`. */
export function filePath({ name, type, day, author }: FiledAs): { folder: string; name: string } {
  const unnamed = `file${ENDINGS[type] ?? ''}`;
  return {
    folder: `${day.slice(0, 4)}/${safeName(`${day} ${safeName(author, 'unknown sender')}`, day)}`,
    name: safeName(name === '' ? unnamed : name, unnamed),
  };
}
