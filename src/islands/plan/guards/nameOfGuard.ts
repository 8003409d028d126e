import type { Guard } from '../../../contract/types';
import { text } from '../../../ui/text';

/** What a guard is called. */
export function nameOfGuard({ kind, where, years }: Pick<Guard, 'kind' | 'where' | 'years'>): string {
  if (kind === 'hold') return `${text.guards.hold(years ?? 0)}: ${where || text.guards.everything}`;
  return text.guards.kinds[kind] || where;
}
