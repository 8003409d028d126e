import { allOf, type Dimension, dimensionOf } from '../../core/columns/dimensions';
import { parseCriteria } from '../../core/criteria/parse';
import { printCriteria } from '../../core/criteria/print';
import type { Criteria, Field, FlagTest } from '../../core/criteria/tree';

/** Criteria as the conditions that must all hold: what the chips show, and what controls add and take away. */
export function conditionsOf(where: string): Criteria[] {
  const parsed = parseCriteria(where);
  if (!parsed.ok || parsed.criteria.kind === 'everything') return [];
  return parsed.criteria.kind === 'all' ? parsed.criteria.of : [parsed.criteria];
}

export function whereOf(conditions: readonly Criteria[]): string {
  return printCriteria(allOf([...conditions]));
}

/** The conditions with those of some dimensions replaced. */
export function replaced(where: string, dimensions: readonly Dimension[], by: readonly Criteria[]): string {
  const kept = conditionsOf(where).filter((condition) => !dimensions.includes(dimensionOf(condition)));
  return whereOf([...kept, ...by]);
}

/** The values of a field that are chosen: `field = a or field = b`; empty where the dimension says something else. */
export function chosenValues(where: string, field: Field): string[] {
  const inField = (condition: Criteria): string | undefined =>
    condition.kind === 'test' && condition.field === field && condition.op === '=' && condition.value.type === 'text'
      ? condition.value.text
      : undefined;
  for (const condition of conditionsOf(where)) {
    const values = (condition.kind === 'any' ? condition.of : [condition]).map(inField);
    if (values.every((value) => value !== undefined)) return values;
  }
  return [];
}

/** Chooses a value of a field, or takes the choice back; whatever else its dimension said gives way. */
export function toggledValue(where: string, dimension: Dimension, field: Field, value: string): string {
  const chosen = chosenValues(where, field);
  const next = chosen.includes(value) ? chosen.filter((one) => one !== value) : [...chosen, value];
  const tests = next.map((text): Criteria => ({ kind: 'test', field, op: '=', value: { type: 'text', text } }));
  const [only] = tests;
  return replaced(
    where,
    [dimension],
    only === undefined ? [] : tests.length === 1 ? [only] : [{ kind: 'any', of: tests }],
  );
}

/** Whether a flag is a condition of its own. */
export function hasFlag(where: string, name: FlagTest): boolean {
  return conditionsOf(where).some((condition) => condition.kind === 'flag' && condition.name === name);
}

export function toggledFlag(where: string, name: FlagTest): string {
  const opposite = name.startsWith('un') ? name.slice(2) : `un${name}`;
  const others = conditionsOf(where).filter(
    (condition) => condition.kind !== 'flag' || (condition.name !== name && condition.name !== opposite),
  );
  return whereOf(hasFlag(where, name) ? others : [...others, { kind: 'flag', name }]);
}

/** Whether messages without a file are what is chosen. */
export function hasNoFiles(where: string): boolean {
  return conditionsOf(where).some((condition) => printCriteria(condition) === 'files = 0');
}

export function toggledNoFiles(where: string): string {
  const none: Criteria = { kind: 'test', field: 'files', op: '=', value: { type: 'count', number: 0 } };
  return replaced(where, ['files'], hasNoFiles(where) ? [] : [none]);
}
