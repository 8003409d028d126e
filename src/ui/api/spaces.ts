import { useQuery } from '@tanstack/react-query';
import type { FoundSpace, Space, SpaceContents, SpaceFile } from '../../contract/types';
import { useAccount } from './account';
import { call } from './call';

/** The file spaces of the account. */
export function useSpaces() {
  const { account, base } = useAccount();
  return useQuery({
    queryKey: ['spaces', account.id],
    queryFn: async () => (await call<{ spaces: Space[] }>(`${base}/spaces`)).spaces,
  });
}

/** What lies in a file space: asked for anew when it was listed. */
export function useSpaceContents({ id, listedAt }: Space) {
  const { account, base } = useAccount();
  return useQuery({
    queryKey: ['spaces', account.id, id, 'contents', listedAt],
    queryFn: () => call<SpaceContents>(`${base}/spaces/${id}/contents`),
    enabled: listedAt !== undefined,
  });
}

/** Its largest files. */
export function useLargestFiles({ id, listedAt }: Space, limit: number) {
  const { account, base } = useAccount();
  return useQuery({
    queryKey: ['spaces', account.id, id, 'largest', listedAt],
    queryFn: async () => (await call<{ files: SpaceFile[] }>(`${base}/spaces/${id}/files?limit=${limit}`)).files,
    enabled: listedAt !== undefined,
  });
}

/** Where the host publishes file spaces. */
export function useFoundSpaces(enabled: boolean) {
  const { account, base } = useAccount();
  return useQuery({
    queryKey: ['found-spaces', account.id],
    queryFn: async () => (await call<{ found: FoundSpace[] }>(`${base}/spaces/found`)).found,
    enabled,
    retry: false,
  });
}
