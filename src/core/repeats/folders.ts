/** A folder repeats another where at least this share of its messages lies there too. */
const LEAST_SHARE = 0.8;
/** In a smaller folder it may be chance. */
const LEAST_MESSAGES = 10;
/** A message that lies in more folders says nothing of any two. */
const MOST_FOLDERS = 32;

/** A folder most of whose messages lie in another one too. */
export interface RepeatingFolder {
  folder: number;
  /** Where they lie too; null: in several others. */
  in: number | null;
  messages: number;
  /** How many of them lie there too. */
  both: number;
}

/** The word for a conflict in the languages in which programs name folders and keywords. Common practice, no source. */
const CONFLICT =
  /(^|[^\p{L}])(conflict(s|ed|ing)?|conflicten|konflikte?n?|konflikter|konflikty|conflits?|conflictos?|conflitti|conflitto|conflitos?)($|[^\p{L}])/iu;

/** Whether the name of a folder, or of one above it, or of a keyword says that programs put there what they disagreed on. */
export function namesConflicts(name: string): boolean {
  return CONFLICT.test(name.replace(/([a-z])([A-Z])/g, '$1 $2'));
}

/**
 * Finds folders that repeat others. Of two that repeat each other, the one with more messages is the one that is repeated, and of two
 * that are as large the one that came first.
 *
 * @param counts messages of each folder.
 * @param groups of each group of proven copies the folders in which they lie, one for each copy.
 * @param ofConflicts whether a folder is told however few of its messages lie elsewhere too: copies of conflicts are told apart from
 * ordinary mail by that.
 */
export function repeatingFolders(
  counts: ReadonlyMap<number, number>,
  groups: Iterable<readonly number[]>,
  ofConflicts: (folder: number) => boolean = () => false,
): RepeatingFolder[] {
  const shared = new Map<string, number>();
  const elsewhere = new Map<number, number>();
  for (const folders of groups) {
    const copies = new Map<number, number>();
    for (const folder of folders) copies.set(folder, (copies.get(folder) ?? 0) + 1);
    if (copies.size > MOST_FOLDERS) continue;
    if (copies.size > 1) for (const [one, many] of copies) elsewhere.set(one, (elsewhere.get(one) ?? 0) + many);
    for (const [one, many] of copies)
      for (const other of copies.keys())
        if (one !== other) shared.set(`${one} ${other}`, (shared.get(`${one} ${other}`) ?? 0) + many);
  }
  const isTold = (folder: number, messages: number, both: number) =>
    ofConflicts(folder) ? both > 0 : messages >= LEAST_MESSAGES && both >= messages * LEAST_SHARE;
  const best = new Map<number, RepeatingFolder>();
  for (const [pair, both] of shared) {
    const [folder, other] = pair.split(' ').map(Number) as [number, number];
    const messages = counts.get(folder) ?? 0;
    if (!isTold(folder, messages, both) || (ofConflicts(other) && !ofConflicts(folder))) continue;
    const known = best.get(folder);
    if (!known || both > known.both || (both === known.both && other < (known.in ?? 0)))
      best.set(folder, { folder, in: other, messages, both });
  }
  // Two that repeat each other are told once.
  const isRepeated = ({ folder, in: other, messages }: RepeatingFolder) => {
    if (other === null || best.get(other)?.in !== folder) return false;
    const inOther = counts.get(other) ?? 0;
    return messages > inOther || (messages === inOther && folder < other);
  };
  const told = [...best.values()].filter((found) => !isRepeated(found) && !ofConflicts(found.folder));
  const known = new Set(told.flatMap(({ folder, in: other }) => [folder, other]));
  for (const [folder, both] of elsewhere) {
    const messages = counts.get(folder) ?? 0;
    if (!known.has(folder) && isTold(folder, messages, both)) told.push({ folder, in: null, messages, both });
  }
  return told.sort((a, b) => b.both - a.both || a.folder - b.folder);
}
