/** What a file is, as people sort files. The order is that of the bits in which they are stored; never change it. */
export const FILE_KINDS = [
  'picture',
  'film',
  'sound',
  'document',
  'table',
  'archive',
  'calendar',
  'message',
  'other',
] as const;

export type FileKind = (typeof FILE_KINDS)[number];

/** Main types that say the kind by themselves (RFC 2046 §4 and §5). */
const BY_MAIN_TYPE: Record<string, FileKind> = {
  image: 'picture',
  video: 'film',
  audio: 'sound',
  message: 'message',
};

/** Media types by subtype, as the registry of media types has them. */
const BY_SUBTYPE: [RegExp, FileKind][] = [
  [/^(calendar|ics)$/, 'calendar'],
  [/(spreadsheet|ms-?excel|csv|tab-separated-values)/, 'table'],
  [/(zip|gzip|x-tar|7z|rar|bzip2|x-xz|compressed)/, 'archive'],
  [/(pdf|msword|wordprocessing|opendocument\.text|rtf|presentation|powerpoint|epub|postscript)/, 'document'],
  [/^rfc822$/, 'message'],
];

/** Extensions, for parts whose type says nothing. Common practice, no source. */
const BY_EXTENSION: [RegExp, FileKind][] = [
  [/\.(jpe?g|png|gif|tiff?|bmp|webp|heic|svg|raw)$/i, 'picture'],
  [/\.(mp4|mov|avi|mkv|webm|mpe?g|m4v|wmv)$/i, 'film'],
  [/\.(mp3|wav|ogg|flac|m4a|aac|wma|opus)$/i, 'sound'],
  [/\.(pdf|docx?|odt|rtf|pptx?|odp|epub|txt|ps)$/i, 'document'],
  [/\.(xlsx?|ods|csv|tsv)$/i, 'table'],
  [/\.(zip|gz|tgz|tar|7z|rar|bz2|xz)$/i, 'archive'],
  [/\.(ics|vcs)$/i, 'calendar'],
  [/\.(eml|msg|mbox)$/i, 'message'],
];

/**
 * The kind of a file by its media type, or by its name where the type is one of those that say nothing.
 *
 * @param type media type and subtype, lower case.
 */
export function fileKind(type: string, name: string): FileKind {
  const [main = '', sub = ''] = type.split('/');
  const byType = BY_MAIN_TYPE[main] ?? BY_SUBTYPE.find(([pattern]) => pattern.test(sub))?.[1];
  if (byType) return byType;
  const byName = BY_EXTENSION.find(([pattern]) => pattern.test(name))?.[1];
  if (byName) return byName;
  return main === 'text' ? 'document' : 'other';
}

/** The place of a kind among FILE_KINDS, as which it is stored. */
export function kindNumber(kind: FileKind): number {
  return FILE_KINDS.indexOf(kind);
}

/** The bit of a kind. */
export function kindBit(kind: FileKind): number {
  return kindBitOf(kindNumber(kind));
}

/** The bit of a kind by its number. */
export function kindBitOf(number: number): number {
  return 1 << number;
}

/** The kinds of a message's files as bits. */
export function kindBits(files: readonly { type: string; name: string }[]): number {
  return files.reduce((bits, { type, name }) => bits | kindBit(fileKind(type, name)), 0);
}
