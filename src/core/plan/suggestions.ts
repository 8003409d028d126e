import type { Columns } from '../columns/columns';
import type { Missing } from '../level/gauge';
import type { Amount } from '../level/level';
import { type People, rowEvidence } from '../senders/people';
import { type Bits, emptyBits, hasBit, setBit } from './bits';
import { type Candidate, candidatesOf } from './candidates';
import { greedyCover } from './coverage';
import { dismissedSenders, type LeftOut, rowsLeftOut } from './dismissals';
import { type FileCandidate, fileCandidatesOf, type TakableFiles, wonBy } from './file-candidates';

/** One decision that is proposed. */
export interface Suggestion extends Omit<Candidate, 'rows' | 'kind'> {
  kind: Candidate['kind'] | FileCandidate['kind'];
  /** Messages go to the trash, or files are taken out of them: then `where` is of files. */
  fate: 'trash' | 'strip';
  /** Files that are taken out; 0 where messages go whole. */
  files: number;
  /** What it adds to the plan and to those proposed before it. */
  adds: Amount;
  /** Evidence for keeping what it adds, 0 to 100: the mean by octets, and the most of any message. */
  evidence: number;
  most: number;
  /** Distinct authors of what it adds. */
  senders: number;
  /** The ids of its largest messages. */
  largest: number[];
}

export interface Suggestions {
  /** In the order in which they should be taken. */
  suggestions: Suggestion[];
  /** How many of them reach the target; null where all together don't. */
  reach: number | null;
  /** How many are worth taking whatever the target, and why no more. */
  stop: { after: number; why: 'little' | 'evidence' | 'end' };
}

/** From here on a decision wins less than this share of what was missing. */
export const LITTLE = 0.05;
/** Evidence of so much means: look closely, or leave it. */
export const MUCH = 50;
/** More are not looked for: nobody decides on more in one sitting. */
const MAX_SUGGESTED = 40;
const LARGEST_SHOWN = 3;

/**
 * The fewest decisions that reach a target. A message weighs its octets (or itself, where messages are limited) less its
 * evidence for keeping: so one decision on bulk outweighs one on a friend, and a set weighs what it weighs whatever it
 * is made of. What counts as won is never discounted.
 *
 * @param scope one octet a row, 0 where it lies in the trash.
 * @param out rows that may not be proposed: guarded, dismissed, or in the plan already.
 */
export function suggest(
  columns: Columns,
  scope: Uint8Array,
  out: Bits,
  people: People,
  context: {
    now: Date;
    timeZone: string;
    free: readonly string[];
    /** Keys of suggestions that were dismissed, and senders to be left out besides those. */
    dismissed: readonly string[];
    leftOut: readonly LeftOut[];
    missing: Missing | null;
    /** Files that may be taken out; none are proposed where they are not given. */
    files?: TakableFiles | undefined;
  },
): Suggestions {
  const { missing } = context;
  const dismissed = new Set(context.dismissed);
  const evidence = rowEvidence(columns, people);
  const eligible = scope.slice();
  for (let row = 0; row < eligible.length; row++) if (hasBit(out, row)) eligible[row] = 0;
  const left = rowsLeftOut(columns, [...dismissedSenders(dismissed), ...context.leftOut], {
    address: people.authors.grouping,
  });
  /** By row the number of the sender by which it is left out, counted from 1. */
  const leftBy = new Uint32Array(columns.length);
  for (const [index, { rows }] of left.entries()) for (const row of rows) leftBy[row] = index + 1;
  const candidates = candidatesOf(columns, eligible, people, context).filter(({ key }) => !dismissed.has(key));
  const byMessages = missing !== null && 'messages' in missing;
  const worth = (row: number) => (byMessages ? 1 : (columns.size[row] as number));
  const weights = new Float64Array(columns.length);
  for (let row = 0; row < weights.length; row++) weights[row] = worth(row) * (1 - (evidence[row] as number));
  const covered = out.slice();
  for (let row = 0; row < leftBy.length; row++) if (leftBy[row] !== 0) setBit(covered, row);
  const taken = out.slice();
  const suggestions: Suggestion[] = [];
  const need = missing === null ? 0 : 'messages' in missing ? missing.messages : missing.bytes;
  let won = 0;
  let reach = need <= 0 ? 0 : null;
  const sets = candidates.map(({ rows }) => rows);
  let cover = greedyCover(sets, weights, covered);
  /** Begins again from what was taken, and these rows: what was covered too much is forgotten. */
  const coverAnew = (besides: Uint32Array = new Uint32Array(0)) => {
    for (let index = 0; index < covered.length; index++) covered[index] = taken[index] as number;
    for (let row = 0; row < leftBy.length; row++) if (leftBy[row] !== 0) setBit(covered, row);
    for (const row of besides) setBit(covered, row);
    cover = greedyCover(sets, weights, covered);
  };
  // Taking files out wins no messages.
  const takable = byMessages ? undefined : context.files;
  const ofFiles = takable ? fileCandidatesOf(columns, takable, context).filter(({ key }) => !dismissed.has(key)) : [];
  /** What was proposed here: guards that keep a message from being deleted let it lose files. */
  const proposed = emptyBits(columns.length);
  const mayLose = (row: number) => leftBy[row] === 0 && !hasBit(proposed, row);
  while (suggestions.length < MAX_SUGGESTED) {
    const next = cover.next();
    const best = takable && bestOfFiles(ofFiles, takable, reach === null ? need - won : Infinity, mayLose);
    // It costs nobody a letter: its octets count whole, and where it is enough no letter is asked for.
    const isEnough = best !== undefined && reach === null && best.gain >= need - won;
    const leads = best !== undefined && best.gain >= Math.max(next.done ? 0 : next.value.gain, LITTLE * need);
    if (best && takable && (isEnough || leads)) {
      suggestions.push(
        stripped(best.candidate, takable, columns, [taken, proposed], mayLose, (row) => leftBy[row] as number, left),
      );
      won += (suggestions.at(-1) as Suggestion).adds.bytes;
      if (reach === null && won >= need) reach = suggestions.length;
      coverAnew();
      continue;
    }
    if (next.done) break;
    let choice = candidates[next.value.set] as Candidate;
    const missed = need - won;
    if (reach === null) {
      // Where older mail of the same is enough, no younger is proposed; what was covered too much is forgotten.
      const enough = leastEnough(candidates, choice, missed, (row) =>
        leftBy[row] !== 0 || hasBit(taken, row) ? 0 : worth(row),
      );
      if (enough !== choice) {
        choice = enough;
        coverAnew(choice.rows);
      }
    }
    const { rows, ...candidate } = choice;
    const without = new Set<number>();
    if (left.length > 0) for (const row of rows) if (leftBy[row] !== 0) without.add(leftBy[row] as number);
    const made = {
      ...candidate,
      fate: 'trash' as const,
      files: 0,
      where: excluding(
        candidate.where,
        Array.from(without, (number) => (left[number - 1] as { where: string }).where),
      ),
      ...addedBy(without.size === 0 ? rows : rows.filter((row) => leftBy[row] === 0), columns, evidence, taken),
    };
    for (const row of rows) setBit(proposed, row);
    suggestions.push(made);
    won += byMessages ? made.adds.messages : made.adds.bytes;
    if (reach === null && won >= need) reach = suggestions.length;
  }
  const little = ({ adds }: Suggestion) => (byMessages ? adds.messages : adds.bytes) < LITTLE * need;
  return { suggestions, reach, stop: stopOf(suggestions, little) };
}

/** Of the decisions on files the one that wins most; of its kind the one that takes least and is enough, where one is. */
function bestOfFiles(
  candidates: readonly FileCandidate[],
  files: TakableFiles,
  missing: number,
  mayLose: (row: number) => boolean,
): { candidate: FileCandidate; gain: number } | undefined {
  const gains = candidates.map((candidate) => {
    let gain = 0;
    for (const at of candidate.files) if (mayLose(files.row[at] as number)) gain += wonBy(files.size[at] as number);
    return { candidate, gain };
  });
  // Where one is enough, nothing else is asked of anybody; pictures and films before all files.
  const enough = gains.find(({ gain }) => gain >= missing);
  if (enough) return enough;
  return gains.reduce<(typeof gains)[number] | undefined>(
    (most, one) => (one.gain > (most?.gain ?? 0) ? one : most),
    undefined,
  );
}

/** A decision on files as it is proposed. Messages that lose files are taken: nothing else is proposed of them. */
function stripped(
  { files: chosen, ...candidate }: FileCandidate,
  files: TakableFiles,
  columns: Columns,
  taken: readonly Bits[],
  mayLose: (row: number) => boolean,
  leftBy: (row: number) => number,
  left: readonly { where: string }[],
): Suggestion {
  const without = new Set<number>();
  const adds = { messages: 0, bytes: 0 };
  const rows = new Set<number>();
  let count = 0;
  for (const at of chosen) {
    const row = files.row[at] as number;
    if (leftBy(row) !== 0) without.add(leftBy(row));
    if (!mayLose(row)) continue;
    rows.add(row);
    count++;
    adds.bytes += wonBy(files.size[at] as number);
  }
  const authors = new Set<number>();
  const largest: number[] = [];
  for (const row of rows) {
    for (const bits of taken) setBit(bits, row);
    authors.add(columns.author[row] as number);
    keepLargest(largest, row, columns.size);
  }
  adds.messages = rows.size;
  return {
    ...candidate,
    fate: 'strip',
    files: count,
    where: excluding(
      candidate.where,
      Array.from(without, (number) => (left[number - 1] as { where: string }).where),
    ),
    adds,
    evidence: 0,
    most: 0,
    senders: authors.size,
    largest: largest.map((row) => columns.id[row] as number),
  };
}

/** Of the same decision at several ages the one of the oldest mail that wins what is missing; else the choice itself. */
function leastEnough(
  candidates: readonly Candidate[],
  choice: Candidate,
  missing: number,
  worth: (row: number) => number,
): Candidate {
  const variants = candidates
    .filter(({ kind, subject }) => kind === choice.kind && subject === choice.subject)
    .sort((a, b) => b.years - a.years);
  for (const variant of variants) {
    let gain = 0;
    for (const row of variant.rows) gain += worth(row);
    if (gain >= missing) return variant;
    if (variant === choice) break;
  }
  return choice;
}

/** After the last decision that wins enough from senders with little evidence. */
function stopOf(suggestions: readonly Suggestion[], little: (suggestion: Suggestion) => boolean): Suggestions['stop'] {
  const worth = (suggestion: Suggestion) => !little(suggestion) && suggestion.evidence < MUCH;
  const after = suggestions.findLastIndex(worth) + 1;
  const next = suggestions[after];
  return { after, why: next === undefined ? 'end' : little(next) ? 'little' : 'evidence' };
}

/** What rows add to those taken before, which they join. */
function addedBy(
  rows: Uint32Array,
  columns: Columns,
  evidence: Float64Array,
  taken: Bits,
): Pick<Suggestion, 'adds' | 'evidence' | 'most' | 'senders' | 'largest'> {
  const adds = { messages: 0, bytes: 0 };
  let weighed = 0;
  let most = 0;
  const senders = new Uint8Array(columns.dictionaries.author.address.length);
  let distinct = 0;
  const largest: number[] = [];
  for (let at = 0; at < rows.length; at++) {
    const row = rows[at] as number;
    if (hasBit(taken, row)) continue;
    setBit(taken, row);
    const size = columns.size[row] as number;
    adds.messages++;
    adds.bytes += size;
    weighed += size * (evidence[row] as number);
    most = Math.max(most, evidence[row] as number);
    const author = columns.author[row] as number;
    distinct += 1 - (senders[author] as number);
    senders[author] = 1;
    keepLargest(largest, row, columns.size);
  }
  return {
    adds,
    evidence: Math.round((100 * weighed) / Math.max(1, adds.bytes)),
    most: Math.round(100 * most),
    senders: distinct,
    largest: largest.map((row) => columns.id[row] as number),
  };
}

/** Criteria without what meets any of these. */
function excluding(where: string, others: readonly string[]): string {
  if (others.length === 0) return where;
  return `${where} and not (${others.map((other) => (others.length > 1 ? `(${other})` : other)).join(' or ')})`;
}

function keepLargest(largest: number[], row: number, sizes: Float64Array): void {
  let at = largest.length;
  while (at > 0 && (sizes[largest[at - 1] as number] as number) < (sizes[row] as number)) at--;
  if (at >= LARGEST_SHOWN) return;
  largest.splice(at, 0, row);
  if (largest.length > LARGEST_SHOWN) largest.pop();
}
