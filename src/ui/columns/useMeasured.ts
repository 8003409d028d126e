import { useCallback, useEffect, useState } from 'react';
import { trashFolders } from '../../core/mailbox/folders';
import type { Measured } from '../../workers/protocol';
import { useAccount } from '../api/account';
import type { Level } from '../api/types';
import { mustGo } from '../level/need';
import { useColumns } from './provider';

/** Names under which programs that keep folders in step file what they could not merge. Common practice, no source. */
const CONFLICTS = /(^|\/)(conflicts?|sync issues)(\/|$)/i;

/** The folders that cost no decision: the trash, junk, and copies left over from conflicts. */
function freeFolders({ folders }: Level, trashFolder: string | null): string[] {
  const trash = trashFolders(folders, trashFolder).map(({ path }) => path);
  const others = folders.filter(({ path, role, repeats }) => !repeats && (role === 'junk' || CONFLICTS.test(path)));
  return [...trash, ...others.map(({ path }) => path)];
}

/** What Level shows of the whole mailbox, computed from the columns whenever they or the level change. */
export function useMeasured(level: Level): { data: Measured | undefined; error: Error | undefined } {
  const client = useColumns();
  const { settings } = useAccount();
  const [data, setData] = useState<Measured>();
  const [error, setError] = useState<Error>();
  const { units, trashFolder } = settings;
  const request = JSON.stringify({ need: mustGo(level), units, free: freeFolders(level, trashFolder) });
  const measure = useCallback(async () => {
    if (!client) return;
    try {
      await client.ready;
      setData(await client.call('measure', { ...JSON.parse(request), now: Date.now() }));
      setError(undefined);
    } catch (failure) {
      setError(failure instanceof Error ? failure : new Error(String(failure)));
    }
  }, [client, request]);
  useEffect(() => void measure(), [measure]);
  useEffect(() => client?.subscribe(() => void measure()), [client, measure]);
  return { data, error };
}
