import type { Run } from '../contract/types';
import { text } from './text';
import { count } from './text/format';

/** What a run does, in words. */
export function actionOf({ action, space }: Pick<Run, 'action' | 'space'>): string {
  return (space === null ? undefined : text.ledger.fileActions[action]) ?? text.ledger.actions[action];
}

/** So many of what a run works on. */
export function membersOf({ space }: Pick<Run, 'space'>, members: number): string {
  return space === null ? text.messages(members, count(members)) : text.space.files(members, count(members));
}

/** Why a run left something. */
export function reasonIn({ space }: Pick<Run, 'space'>, reason: string): string {
  return (space === null ? undefined : text.ledger.fileReasons[reason]) ?? text.ledger.reasons[reason] ?? reason;
}

/** Where a run like another is started: on messages, or in its file space. */
export function runsPath({ space }: Pick<Run, 'space'>): string {
  return space === null ? '/runs' : `/spaces/${space}/runs`;
}
