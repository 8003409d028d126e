import { useQuery } from '@tanstack/react-query';
import type { FilePlan, FoundSpace, Space, SpaceContents, SpaceFile, SpaceTrash, Upload } from '../../contract/types';
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

/** The lots of files in the plan. */
export function useFilePlan() {
  const { account, base } = useAccount();
  return useQuery({ queryKey: ['lots', account.id, 'files'], queryFn: () => call<FilePlan>(`${base}/file-lots`) });
}

/** What lies in the trash of a file space. */
export function useSpaceTrash({ id }: Space) {
  const { account, base } = useAccount();
  return useQuery({
    queryKey: ['spaces', account.id, id, 'trash'],
    queryFn: () => call<SpaceTrash>(`${base}/spaces/${id}/trash`),
  });
}

/** The uploads to file spaces, newest first. */
export function useUploads() {
  const { account, base } = useAccount();
  return useQuery({
    queryKey: ['uploads', account.id],
    queryFn: async () => (await call<{ uploads: Upload[] }>(`${base}/uploads`)).uploads,
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
