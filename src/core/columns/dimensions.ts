import type { Criteria, Field, FieldTest } from '../criteria/tree';
import { OCTETS_IN } from '../units';
import { type InstantRange, instantRange } from './mask';

/**
 * The dimensions in which Sift narrows. Each shows its distribution under the conditions of all the others, so each
 * condition must belong to one; what belongs to none, or to several at once, is the rest.
 */
export const DIMENSIONS = ['size', 'time', 'category', 'folder', 'files', 'flags', 'sender', 'rest'] as const;
export type Dimension = (typeof DIMENSIONS)[number];

const OF_FIELD: Partial<Record<Field, Dimension>> = {
  size: 'size',
  age: 'time',
  received: 'time',
  category: 'category',
  folder: 'folder',
  under: 'folder',
  kind: 'files',
  files: 'files',
  attached: 'files',
  keyword: 'flags',
  from: 'sender',
  domain: 'sender',
  list: 'sender',
};

/** Parts criteria into one expression a dimension; all of them together mean the same. */
export function byDimension(criteria: Criteria): Record<Dimension, Criteria> {
  const parts = Object.fromEntries(DIMENSIONS.map((name) => [name, [] as Criteria[]])) as Record<Dimension, Criteria[]>;
  const conditions = criteria.kind === 'all' ? criteria.of : [criteria];
  for (const condition of conditions)
    if (condition.kind !== 'everything') parts[dimensionOf(condition)].push(condition);
  return Object.fromEntries(DIMENSIONS.map((name) => [name, allOf(parts[name])])) as Record<Dimension, Criteria>;
}

/** All of these at once, without a group of one. */
export function allOf(of: Criteria[]): Criteria {
  if (of.length === 0) return { kind: 'everything' };
  return of.length === 1 ? (of[0] as Criteria) : { kind: 'all', of };
}

/** The one dimension of all tests of a condition; the rest where they are of several. */
export function dimensionOf(condition: Criteria): Dimension {
  switch (condition.kind) {
    case 'test':
      return OF_FIELD[condition.field] ?? 'rest';
    case 'flag':
      return condition.name === 'guarded' ? 'rest' : 'flags';
    case 'not':
      return dimensionOf(condition.of);
    case 'any':
    case 'all': {
      const dimensions = new Set(condition.of.map(dimensionOf));
      return dimensions.size === 1 ? ([...dimensions][0] as Dimension) : 'rest';
    }
    case 'everything':
      return 'rest';
  }
}

/** Values from `from` up to but without `to`: octets of sizes, seconds of times. */
export interface Interval {
  from: number;
  to: number;
}

const UNBOUNDED: Interval = { from: -Infinity, to: Infinity };

/** The interval that an expression of `size` or `time` means; undefined where it means more than one. */
export function intervalOf(criteria: Criteria, context: { now: Date; timeZone: string }): Interval | undefined {
  const tests = criteria.kind === 'everything' ? [] : criteria.kind === 'all' ? criteria.of : [criteria];
  let { from, to } = UNBOUNDED;
  for (const test of tests) {
    const one = test.kind === 'test' ? intervalOfTest(test, context) : undefined;
    if (!one) return undefined;
    from = Math.max(from, one.from);
    to = Math.min(to, one.to);
  }
  return { from, to: Math.max(from, to) };
}

function intervalOfTest(test: FieldTest, context: { now: Date; timeZone: string }): Interval | undefined {
  if (test.value.type !== 'octets') {
    const range: InstantRange = instantRange(test, context);
    return range.negated ? undefined : range;
  }
  const octets = test.value.number * (test.value.unit === null ? 1 : OCTETS_IN[test.value.unit]);
  // Sizes are whole, so an edge between two of them may be moved to the upper one.
  switch (test.op) {
    case '<':
      return { from: -Infinity, to: octets };
    case '<=':
      return { from: -Infinity, to: Math.floor(octets) + 1 };
    case '>':
      return { from: Math.floor(octets) + 1, to: Infinity };
    case '>=':
      return { from: octets, to: Infinity };
    case '=':
      return Number.isInteger(octets) ? { from: octets, to: octets + 1 } : { from: 0, to: 0 };
    default:
      return undefined;
  }
}
