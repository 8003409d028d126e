import { type Criteria, FLAG_TESTS, type Value } from './tree';

/** Prints criteria so that parsing gives the same tree again. */
export function printCriteria(criteria: Criteria): string {
  switch (criteria.kind) {
    case 'everything':
      return '';
    case 'any':
      return criteria.of.map((part) => (part.kind === 'any' ? grouped(part) : printCriteria(part))).join(' or ');
    case 'all':
      return criteria.of
        .map((part) => (part.kind === 'any' || part.kind === 'all' ? grouped(part) : printCriteria(part)))
        .join(' and ');
    case 'not':
      return `not ${criteria.of.kind === 'flag' || criteria.of.kind === 'test' ? printCriteria(criteria.of) : grouped(criteria.of)}`;
    case 'flag':
      return criteria.name;
    case 'test':
      return `${criteria.field} ${criteria.op} ${printValue(criteria.value)}`;
  }
}

function grouped(criteria: Criteria): string {
  return `(${printCriteria(criteria)})`;
}

function printValue(value: Value): string {
  switch (value.type) {
    case 'octets':
      return value.unit === null ? `${value.number}` : `${value.number} ${value.unit}`;
    case 'count':
      return `${value.number}`;
    case 'age':
      return `${value.number}${value.unit}`;
    case 'day':
      return value.day;
    case 'text':
      return printText(value.text);
  }
}

const KEYWORDS = new Set<string>(['and', 'or', 'not', ...FLAG_TESTS]);

/** Prints a text as a word where it can be one, else in quotes. */
export function printText(text: string): string {
  if (/^[\p{L}\p{M}\p{N}._@/+-]+$/u.test(text) && !KEYWORDS.has(text.toLowerCase())) return text;
  return `"${text.replace(/["\\]/g, '\\$&')}"`;
}
