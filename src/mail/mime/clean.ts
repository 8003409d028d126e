import { oneLine } from '../../core/text';

/** Longest text kept of a field; a hostile header may hold megabytes. */
const MAX_LENGTH = 2_000;

/** Makes of a text of a header what is kept of it. */
export function clean(text: string | null, longest = MAX_LENGTH): string {
  return text === null ? '' : oneLine(text.length > longest ? text.slice(0, longest) : text);
}
