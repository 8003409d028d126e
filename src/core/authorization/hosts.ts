/** Whether a mail server is one of those that a pattern stands for: itself, or with `*.` before it all below it. */
export function standsFor(pattern: string, host: string): boolean {
  return pattern.startsWith('*.') ? host.endsWith(pattern.slice(1)) : host === pattern;
}
