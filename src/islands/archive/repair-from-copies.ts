import type { DamagedFile } from '../../contract/types';

/**
 * Sends the octets of damaged messages out of a copy that the person chose, and nothing else of it.
 *
 * @param path of the calls that take them.
 * @returns how many were taken, and why it ended before.
 */
export async function repairFromCopies(
  path: string,
  damage: readonly DamagedFile[],
  copies: readonly File[],
): Promise<{ repaired: number; problem: string | undefined }> {
  let repaired = 0;
  let problem: string | undefined;
  for (const { file, path: wanted, at, length } of damage) {
    const name = wanted.slice(wanted.lastIndexOf('/') + 1);
    // By its name: a person may have chosen the file alone, or put it elsewhere.
    for (const copy of copies.filter((one) => one.name === name)) {
      const body = at === null || length === null ? copy : copy.slice(at, at + length);
      const response = await fetch(`/api${path}/${file}`, {
        method: 'POST',
        headers: { 'content-type': 'application/octet-stream' },
        body,
      });
      if (response.ok) {
        repaired++;
        break;
      }
      problem = ((await response.json().catch(() => ({}))) as { detail?: string }).detail ?? `HTTP ${response.status}`;
    }
  }
  return { repaired, problem: repaired > 0 ? undefined : problem };
}
