import { parseCriteria } from '../core/criteria/parse';
import type { Criteria } from '../core/criteria/tree';
import { Problem } from './problem';

/** Parses a `where`; where it is wrong, the problem says at which place. */
export function criteriaFrom(where: string): Criteria {
  const parsed = parseCriteria(where);
  if (parsed.ok) return parsed.criteria;
  const { at, expected } = parsed.error;
  throw new Problem(
    422,
    'criteria',
    'The criteria can’t be read',
    `At character ${at + 1} Tamsel expected ${expected}.`,
    [{ field: 'where', at, expected }],
  );
}
