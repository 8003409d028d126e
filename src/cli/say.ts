/** Tells a person what the command does. */
export function say(text: string): void {
  process.stdout.write(`${text}\n`);
}
