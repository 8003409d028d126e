import * as clock from '../../clock/clock';
import { includes, type Ranges } from '../../core/sets/ranges';
import type { Account } from '../access/accounts';
import type { Queryable } from '../database';
import { type EchoRow, readEchoes } from '../index/echoes';
import { guardedNow } from '../index/guarded';
import { promisedMessages } from './promised';
import { takenNow } from './taken';

/** A message that a later one quotes in full. */
export interface EchoFound extends EchoRow {
  state: 'goes' | 'guarded' | 'marked' | 'stays';
  /** The placement of a message that holds it and stays; undefined where each is taken, or quoted itself. */
  holder: number | undefined;
}

/**
 * What stands whole in a later message that stays.
 *
 * @param leaving placements that are counted elsewhere as what can go.
 */
export async function echoesOf(db: Queryable, account: Account, leaving?: Ranges): Promise<EchoFound[]> {
  const isLeaving = (id: number) => leaving !== undefined && includes(leaving, id);
  const found = (await readEchoes(db, account)).filter(({ id }) => !isLeaving(id));
  const { members: guarded } = await guardedNow(db, account, clock.now());
  const taken = await takenNow(db, account.id);
  const isTaken = (id: number) => includes(taken, id) || isLeaving(id);
  return toldOf(found, (id) => includes(guarded, id), isTaken);
}

/** The latest come first, so that of what holds a message it is known whether it goes itself. */
function toldOf(
  found: readonly EchoRow[],
  isGuarded: (id: number) => boolean,
  isTaken: (id: number) => boolean,
): EchoFound[] {
  const going = new Set<number>();
  return found.map((row) => {
    const holder = row.holders.find((id) => !isTaken(id) && !going.has(id));
    if (isTaken(row.id)) return { ...row, holder, state: 'marked' };
    if (holder === undefined) return { ...row, holder, state: 'stays' };
    if (isGuarded(row.id)) return { ...row, holder, state: 'guarded' };
    going.add(row.id);
    return { ...row, holder, state: 'goes' };
  });
}

/** Messages that lots of the plan must not take, since nothing that quotes them would stay though they promised that. */
export async function brokenEchoes(db: Queryable, account: Account): Promise<number[]> {
  const promised = await promisedMessages(db, account, 'echoes');
  if (promised.length === 0) return [];
  const found = new Map((await readEchoes(db, account)).map((row) => [row.id, row]));
  const taken = await takenNow(db, account.id);
  return promised.filter((id) => !found.get(id)?.holders.some((holder) => !includes(taken, holder)));
}
