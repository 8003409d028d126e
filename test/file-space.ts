import type { StandIn } from '../stand-in/host';
import { FileSpaceServer } from '../stand-in/webdav/server';
import { FileTree, ROOT, type ScenarioFile, type Shared } from '../stand-in/webdav/tree';
import { type App, later, PASSWORD, USER, until } from './harness';

/** A file of so many octets, for what is only counted. */
export function plainFile(path: string, size: number, modified = 1_700_000_000): ScenarioFile {
  return { path, size, type: 'application/octet-stream', modified, octets: () => Buffer.alloc(size, path) };
}

/** A file space on loopback that shares the quota of a stand-in's mailbox. */
export async function startFileSpace(
  host: StandIn,
  files: readonly ScenarioFile[],
  shared: readonly Shared[] = [],
): Promise<FileSpaceServer> {
  const tree = new FileTree(files, shared, undefined);
  host.mailbox.shareWith(() => tree.bytes);
  const space = await FileSpaceServer.start({ tree, user: USER, password: PASSWORD, room: host.mailbox });
  later(() => space.stop());
  return space;
}

/** Adds the file space to an account, and waits until it is listed. @returns its path in the API. */
export async function addSpace(app: App, account: string, space: FileSpaceServer): Promise<string> {
  const { status, body } = await app.call('POST', `${account}/spaces`, { address: space.url.href });
  if (status !== 201) throw new Error(JSON.stringify(body));
  await listed(app, account);
  return `${account}/spaces/${body.id}`;
}

/** Waits until no file space of an account is being listed. @returns the first as it is then. */
export async function listed(app: App, account: string): Promise<any> {
  let spaces: any[] = [];
  await until(async () => {
    ({ spaces } = (await app.call('GET', `${account}/spaces`)).body);
    return spaces.every(({ listing }) => listing.state === 'done' || listing.state === 'failed');
  }, 60);
  return spaces[0];
}

/** What the index holds of the files, in the order of their paths. */
export async function indexed(app: App): Promise<[path: string, bytes: number, etag: string | null][]> {
  const { rows } = await app.database.query<{ path: string; bytes: number; etag: string | null }>(
    'select path, bytes, etag from space_file where gone_at is null',
  );
  return rows.map(({ path, bytes, etag }): [string, number, string | null] => [path, bytes, etag]).sort(byPath);
}

/** What lies there, in the same form. */
export function there({ tree }: FileSpaceServer): [path: string, bytes: number, etag: string][] {
  return [...tree.files]
    .map(([path, { size, version, modified }]): [string, number, string] => [
      path,
      size,
      `"${version}-${size}-${modified}"`,
    ])
    .sort(byPath);
}

function byPath([a]: readonly [string, ...unknown[]], [b]: readonly [string, ...unknown[]]): number {
  return a < b ? -1 : a > b ? 1 : 0;
}

export { ROOT };
