/** A folder of a file space, with what lies in it itself. */
export interface FolderFigures {
  id: number;
  /** Null of the uppermost. */
  parent: number | null;
  files: number;
  bytes: number;
  /** Whether it is what others share. */
  shared: boolean;
}

/** The same with all that lies below it. */
export type FolderSums<T> = T & { total: { files: number; bytes: number } };

/** Adds each folder up into all above it, what others share only into what they share. One whose parent is not among them stands by itself. */
export function sumUp<T extends FolderFigures>(folders: readonly T[]): FolderSums<T>[] {
  const sums = folders.map((folder) => ({ ...folder, total: { files: folder.files, bytes: folder.bytes } }));
  const byId = new Map(sums.map((folder) => [folder.id, folder]));
  const waitsFor = new Map<number, number>();
  for (const { parent } of sums) if (parent !== null) waitsFor.set(parent, (waitsFor.get(parent) ?? 0) + 1);
  // From those that nothing lies below, upwards: each is added once, when it is whole.
  const whole = sums.filter(({ id }) => !waitsFor.has(id));
  for (let next = whole.pop(); next; next = whole.pop()) {
    const above = next.parent === null ? undefined : byId.get(next.parent);
    if (!above) continue;
    if (next.shared === above.shared) {
      above.total.files += next.total.files;
      above.total.bytes += next.total.bytes;
    }
    const left = (waitsFor.get(above.id) as number) - 1;
    waitsFor.set(above.id, left);
    if (left === 0) whole.push(above);
  }
  return sums;
}
