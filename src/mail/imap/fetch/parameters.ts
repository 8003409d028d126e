import type { Cursor } from '../wire/cursor';

/** Reads a list of parameters, names in lower case; null for NIL. */
export function readParameters(cursor: Cursor): Map<string, string> | null {
  if (!cursor.opens()) {
    cursor.skip();
    return null;
  }
  const parameters = new Map<string, string>();
  while (!cursor.closes()) {
    const name = cursor.string()?.toLowerCase() ?? '';
    if (cursor.closes()) break;
    const value = cursor.string() ?? '';
    if (!parameters.has(name)) parameters.set(name, value);
  }
  return parameters;
}
