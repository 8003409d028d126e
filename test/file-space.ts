import assert from 'node:assert/strict';
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
  });
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

/** The files that a file space lists for the API, by their paths from the uppermost folder on. */
export async function filesIn(app: App, path: string): Promise<Map<string, any>> {
  const files = new Map<string, any>();
  for (let after = ''; ; ) {
    const { body } = await app.call('GET', `${path}/files?limit=1000${after}`);
    for (const file of body.files) files.set(file.path, file);
    if (!body.next) return files;
    after = `&after=${body.next}`;
  }
}

/** Asserts that the index has exactly what lies there. */
export async function isIndexed(app: App, path: string, tree: FileTree): Promise<void> {
  const known = [...(await filesIn(app, path))].map(([name, { bytes }]) => `${bytes} ${name}`).sort();
  const lying = [...tree.files].map(([file, { size }]) => `${size} ${decodeURIComponent(file.slice(ROOT.length))}`);
  assert.deepEqual(known, lying.sort(), 'the index equals the file space');
}

/** Marks files, and starts a run on them. @returns the path of the run. */
export async function startFileRun(app: App, path: string, fate: 'trash' | 'purge', files: object): Promise<string> {
  const lot = await app.call('POST', `${path}/lots`, { fate, ...files });
  if (lot.status !== 201) throw new Error(JSON.stringify(lot.body));
  return startedFileRun(app, path, { action: fate, lots: [lot.body.id] });
}

export async function startedFileRun(app: App, path: string, run: object): Promise<string> {
  const started = await app.call('POST', `${path}/runs`, run);
  if (started.status !== 202) throw new Error(JSON.stringify(started.body));
  return `${path.replace(/\/spaces\/.*/, '')}/runs/${started.body.id}`;
}

/** The octets of all files that lie there, by their paths. */
export function contents({ tree }: FileSpaceServer): Map<string, string> {
  return new Map([...tree.files].map(([path, file]) => [path, file.octets().toString('latin1')]));
}
