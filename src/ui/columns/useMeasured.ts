import type { Level } from '../../contract/types';
import { missingNow } from '../../core/level/gauge';
import { freeFolders, trashFolders } from '../../core/mailbox/folders';
import { useAccount } from '../api/account';
import { useAsked } from './useAsked';

/** What Level shows of the whole mailbox, computed from the columns whenever they or the level change. */
export function useMeasured(level: Level) {
  const { units, trashFolder } = useAccount().settings;
  const free = [...trashFolders(level.folders, trashFolder), ...freeFolders(level.folders)].map(({ path }) => path);
  return useAsked('measure', { need: missingNow(level), units, free, now: 0 }, (asked) => ({
    ...asked,
    now: Date.now(),
  }));
}
