import { covering, type Ranges, rangesOf } from '../../core/sets/ranges';
import type { PendingPlacement } from '../../store/index/placements';
import type { Batch } from '../../store/runs/batches';

/** A pending placement with the folder it goes to; null for a purge. */
export interface Routed extends PendingPlacement {
  destination: number | null;
}

/** Batches that are written down together, sent, and closed together: many small folders share their transactions. */
const MAX_BATCHES = 64;

/** Ranges from which on it is looked whether fewer would do: as many as two short commands name. */
const MANY_RANGES = 1_000;

/** Messages of one folder that go to one folder. */
export interface Group {
  generation: number;
  destination: number | null;
  /** By UID. */
  members: Routed[];
  /** All UIDs of the source between the first and the last member, where that was asked. */
  existing: Ranges | undefined;
}

/** A group that was written down, and the UIDs that its commands name. */
export interface Planned {
  group: Group;
  batch: Batch;
  sources: Ranges;
}

/** Orders what is pending so that the next is at the end: by folder, destination and UID. */
export function arranged(pending: Routed[]): Routed[] {
  return pending.sort(
    (a, b) => b.generation - a.generation || (b.destination ?? 0) - (a.destination ?? 0) || b.uid - a.uid,
  );
}

/**
 * Takes the next groups off the end of what is pending.
 *
 * @param size messages of all groups together, at most.
 */
export function nextWave(queue: Routed[], size: number, maxBatches = MAX_BATCHES): Group[] {
  const groups: Group[] = [];
  let left = size;
  while (queue.length > 0 && left > 0 && groups.length < maxBatches) {
    const { generation, destination } = queue.at(-1) as Routed;
    const members: Routed[] = [];
    for (let next = queue.at(-1); next && left > 0; next = queue.at(-1)) {
      if (next.generation !== generation || next.destination !== destination) break;
      members.push(next);
      queue.pop();
      left--;
    }
    groups.push({ generation, destination, members, existing: undefined });
  }
  return groups;
}

/** Whether the members of a group are scattered so much that it is worth to ask what lies between them. */
export function isScattered({ members }: Group): boolean {
  return rangesOf(members.map(({ uid }) => uid)).length > MANY_RANGES;
}

/** The UIDs that a command names for a batch of a group. */
export function sourcesOf({ existing }: Group, batch: Batch): Ranges {
  const uids = rangesOf(batch.members.map(({ uid }) => uid));
  return existing ? covering(uids, existing) : uids;
}
