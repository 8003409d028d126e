import { readFileSync } from 'node:fs';

export function median(values: number[]): number {
  return [...values].sort((a, b) => a - b)[values.length >> 1] as number;
}

/** Milliseconds that an act takes. */
export async function timed(act: () => unknown): Promise<number> {
  const started = performance.now();
  await act();
  return performance.now() - started;
}

export const rounded = (number: number) => Number(number.toPrecision(3));

/** Megabytes that this process held at most. */
export function peakMemory(): number {
  return Math.round(Number(/VmHWM:\s+(\d+) kB/.exec(readFileSync('/proc/self/status', 'utf8'))?.[1]) / 1024);
}

/** The numbers of messages to measure with: those of the command line, else these. */
export function countsAsked(usual: number[]): number[] {
  const asked = process.argv.slice(2).map(Number).filter(Boolean);
  return asked.length > 0 ? asked : usual;
}

/** Prints results as JSON and as a table, a column each. */
export function printResults<R extends Record<string, unknown>>(results: R[]): void {
  process.stdout.write(`${JSON.stringify(results)}\n\n`);
  for (const name of Object.keys(results[0] ?? {}))
    process.stdout.write(`${name.padEnd(44)}${results.map((result) => String(result[name]).padStart(12)).join('')}\n`);
}
