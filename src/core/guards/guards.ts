import { type Parsed, parseCriteria } from '../criteria/parse';
import { type Criteria, PLACES } from '../criteria/tree';

/**
 * What keeps messages out of every lot. Three are there from the beginning and can be switched off; of the user's own
 * are criteria, and holds, which the law asks of some offices and nobody overrides in passing.
 */
export const GUARD_KINDS = ['flagged', 'drafts', 'correspondents', 'criteria', 'hold'] as const;
export type GuardKind = (typeof GUARD_KINDS)[number];

/** Days for which a draft is kept. */
export const DRAFT_DAYS = 30;
/** Years in which the user wrote to somebody whose mail is kept. */
export const CORRESPONDENCE_YEARS = 1;

/**
 * Guards that read what the user meant from what was done. They say nothing of mail that was put into the trash since,
 * which was meant too; a flag, criteria of one's own and holds keep there as well.
 */
export function keepsInTrash(kind: GuardKind): boolean {
  return kind !== 'drafts' && kind !== 'correspondents';
}

/**
 * Guards that keep a message from having files taken out: those that the user made. The others protect what a message says,
 * which stays.
 */
export const KEEP_FILES: readonly GuardKind[] = ['criteria', 'hold'];

/** The folders by whose role the guards from the beginning know mail. */
export interface GuardFolders {
  drafts: readonly string[];
  sent: readonly string[];
}

/**
 * What a guard keeps, as criteria. `correspondents` keeps besides what these say the mail of the people the user wrote
 * to, which no criteria can say.
 *
 * @param guard its own criteria, parsed, and for a hold the years from receipt.
 */
export function guardCriteria(
  guard: { kind: GuardKind; criteria: Criteria; years: number | null },
  folders: GuardFolders,
): Criteria {
  switch (guard.kind) {
    case 'flagged':
      return { kind: 'flag', name: 'flagged' };
    case 'drafts':
      return both(anyOf([{ kind: 'flag', name: 'draft' }, ...folders.drafts.map(inFolder)]), younger(DRAFT_DAYS, 'd'));
    case 'correspondents':
      return both(anyOf(folders.sent.map(inFolder)), younger(CORRESPONDENCE_YEARS, 'y'));
    case 'criteria':
      return guard.criteria;
    case 'hold':
      return both(guard.criteria, younger(guard.years ?? 0, 'y'));
  }
}

function inFolder(path: string): Criteria {
  return { kind: 'test', field: 'folder', op: '=', value: { type: 'text', text: path } };
}

function younger(number: number, unit: 'd' | 'y'): Criteria {
  return { kind: 'test', field: 'age', op: '<', value: { type: 'age', number, unit } };
}

function both(one: Criteria, other: Criteria): Criteria {
  return one.kind === 'everything' ? other : { kind: 'all', of: [one, other] };
}

/** Nothing at all where there is no part. */
function anyOf(parts: Criteria[]): Criteria {
  if (parts.length === 0) return { kind: 'not', of: { kind: 'everything' } };
  return parts.length === 1 ? (parts[0] as Criteria) : { kind: 'any', of: parts };
}

/**
 * Reads the criteria of a guard. Two things can't stand in one: `guarded`, which would turn in a circle, and `text`,
 * which only the mail server can tell, and not at every moment.
 */
export function parseGuardCriteria(text: string): Parsed {
  return parseCriteria(text, ['guarded', 'text', ...PLACES]);
}

/** Whether an expression asks what the guards keep. */
export function mentionsGuarded(criteria: Criteria): boolean {
  switch (criteria.kind) {
    case 'flag':
      return criteria.name === 'guarded';
    case 'not':
      return mentionsGuarded(criteria.of);
    case 'any':
    case 'all':
      return criteria.of.some(mentionsGuarded);
    default:
      return false;
  }
}
