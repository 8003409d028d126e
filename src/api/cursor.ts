import * as v from 'valibot';
import type { Cursor } from '../store/index/messages';
import { invalid } from './problem';

/** A place in a list as callers see it: opaque. */
export function cursorText(cursor: Cursor): string {
  return Buffer.from(JSON.stringify([cursor.value, cursor.id])).toString('base64url');
}

export function cursorFrom(text: string | undefined): Cursor | undefined {
  if (text === undefined) return undefined;
  try {
    const [value, id] = v.parse(
      v.tuple([v.string(), v.number()]),
      JSON.parse(Buffer.from(text, 'base64url').toString('utf8')),
    );
    return { value, id };
  } catch {
    throw invalid('This is not a valid place in a list.', [
      { field: 'after', expected: 'what `next` of the page before gave' },
    ]);
  }
}
