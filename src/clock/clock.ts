import { readFileSync } from 'node:fs';

/**
 * The time by which mail ages and standing lots come round. It is the machine's, but for the demo and tests: there a file, which
 * TAMSEL_CLOCK_FILE names, says by how many seconds it is ahead. Leases, sessions and limits go by the machine's alone.
 */
export function now(): Date {
  return new Date(Date.now() + ahead());
}

/** Milliseconds by which that time is ahead of the machine's. */
export function ahead(): number {
  const file = process.env.TAMSEL_CLOCK_FILE;
  return file ? offsetIn(file) : 0;
}

function offsetIn(file: string): number {
  try {
    const seconds = Number(readFileSync(file, 'utf8'));
    return Number.isFinite(seconds) && seconds > 0 ? seconds * 1000 : 0;
  } catch {
    return 0;
  }
}
