import { printCriteria } from '../../core/criteria/print';
import type { Criteria } from '../../core/criteria/tree';

/** What the controls of Sift can say. Each is '' where it narrows nothing. */
export interface Controls {
  /** `5 MiB`. */
  leastSize: string;
  /** `1y`. */
  leastAge: string;
  /** A path; its subfolders count too. */
  folder: string;
  /** In sender or subject. */
  word: string;
  unflagged: boolean;
  unseen: boolean;
}

export const NO_CONTROLS: Controls = {
  leastSize: '',
  leastAge: '',
  folder: '',
  word: '',
  unflagged: false,
  unseen: false,
};

/** The criteria that controls say. */
export function criteriaOf(controls: Controls): string {
  const tests: Criteria[] = [];
  const size = /^(\d+) (KiB|MiB|kB|MB)$/.exec(controls.leastSize);
  if (size)
    tests.push({
      kind: 'test',
      field: 'size',
      op: '>=',
      value: { type: 'octets', number: Number(size[1]), unit: size[2] as 'MiB' },
    });
  const age = /^(\d+)(d|w|mo|y)$/.exec(controls.leastAge);
  if (age)
    tests.push({
      kind: 'test',
      field: 'age',
      op: '>=',
      value: { type: 'age', number: Number(age[1]), unit: age[2] as 'y' },
    });
  if (controls.folder)
    tests.push({ kind: 'test', field: 'under', op: '=', value: { type: 'text', text: controls.folder } });
  if (controls.word)
    tests.push({ kind: 'any', of: [contains('from', controls.word), contains('subject', controls.word)] });
  if (controls.unflagged) tests.push({ kind: 'flag', name: 'unflagged' });
  if (controls.unseen) tests.push({ kind: 'flag', name: 'unseen' });
  if (tests.length === 0) return '';
  return printCriteria(tests.length === 1 ? (tests[0] as Criteria) : { kind: 'all', of: tests });
}

function contains(field: 'from' | 'subject', text: string): Criteria {
  return { kind: 'test', field, op: '~', value: { type: 'text', text } };
}

/** The controls that say the same as criteria; undefined where they can't. */
export function controlsOf(criteria: Criteria): Controls | undefined {
  if (criteria.kind === 'everything') return NO_CONTROLS;
  const controls = { ...NO_CONTROLS };
  for (const test of criteria.kind === 'all' ? criteria.of : [criteria]) if (!read(test, controls)) return undefined;
  return controls;
}

/** Reads one test into the controls; false where there is none for it. */
function read(test: Criteria, controls: Controls): boolean {
  if (test.kind === 'flag' && test.name === 'unflagged') controls.unflagged = true;
  else if (test.kind === 'not' && test.of.kind === 'flag' && test.of.name === 'flagged') controls.unflagged = true;
  else if (test.kind === 'flag' && test.name === 'unseen') controls.unseen = true;
  else if (test.kind === 'any') return readWord(test.of, controls);
  else if (test.kind === 'test') return readTest(test, controls);
  else return false;
  return true;
}

function readTest({ field, op, value }: Extract<Criteria, { kind: 'test' }>, controls: Controls): boolean {
  if (field === 'size' && op === '>=' && value.type === 'octets' && value.unit && !controls.leastSize)
    controls.leastSize = `${value.number} ${value.unit}`;
  else if (field === 'age' && op === '>=' && value.type === 'age' && !controls.leastAge)
    controls.leastAge = `${value.number}${value.unit}`;
  else if (field === 'under' && op === '=' && value.type === 'text' && !controls.folder) controls.folder = value.text;
  else return false;
  return true;
}

function readWord(of: Criteria[], controls: Controls): boolean {
  const [one, other] = of;
  if (of.length !== 2 || one?.kind !== 'test' || other?.kind !== 'test' || controls.word) return false;
  if (one.field !== 'from' || other.field !== 'subject' || one.op !== '~' || other.op !== '~') return false;
  if (one.value.type !== 'text' || other.value.type !== 'text' || one.value.text !== other.value.text) return false;
  controls.word = one.value.text;
  return true;
}
