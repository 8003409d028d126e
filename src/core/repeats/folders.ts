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

/**
 * Finds folders that repeat others. Of two that repeat each other, the one with more messages is the one that is repeated, and of two
 * that are as large the one that came first.
 *
 * @param counts messages of each folder.
 * @param groups of each group of proven copies the folders in which they lie, one for each copy.
 */
export function repeatingFolders(
  counts: ReadonlyMap<number, number>,
  groups: Iterable<readonly number[]>,
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
  const best = new Map<number, RepeatingFolder>();
  for (const [pair, both] of shared) {
    const [folder, other] = pair.split(' ').map(Number) as [number, number];
    const messages = counts.get(folder) ?? 0;
    if (messages < LEAST_MESSAGES || both < messages * LEAST_SHARE) continue;
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
  const told = [...best.values()].filter((found) => !isRepeated(found));
  const known = new Set(told.flatMap(({ folder, in: other }) => [folder, other]));
  for (const [folder, both] of elsewhere) {
    const messages = counts.get(folder) ?? 0;
    if (!known.has(folder) && messages >= LEAST_MESSAGES && both >= messages * LEAST_SHARE)
      told.push({ folder, in: null, messages, both });
  }
  return told.sort((a, b) => b.both - a.both || a.folder - b.folder);
}
