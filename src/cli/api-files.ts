import { createHash } from 'node:crypto';
import { createReadStream, createWriteStream } from 'node:fs';
import { readdir, stat } from 'node:fs/promises';
import { join, sep } from 'node:path';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { EXIT, Stop } from './exits';

/** Files whose sums are sent at a time; the API takes so many. */
const AT_ONCE = 1_000;

/** What a copy comes to. */
export interface CopyVerdict {
  checked: number;
  differs: string[];
  unknown: string[];
}

/**
 * Downloads octets into a file. A file that is there is taken for the beginning of a download that broke off, which goes on.
 *
 * @param open asks for the octets from one on.
 */
export async function download(open: (from: number) => Promise<Response>, file: string): Promise<void> {
  const have = (await stat(file).catch(() => undefined))?.size ?? 0;
  const answer = await open(have);
  if (answer.status === 416 && answer.headers.get('content-range') === `bytes */${have}`) return;
  if (!answer.ok || !answer.body) {
    const { detail } = (await answer.json().catch(() => ({}))) as { detail?: string };
    throw new Stop(EXIT.failed, detail ?? `Tamsel answered ${answer.status}.`);
  }
  const flags = answer.status === 206 ? 'a' : 'w';
  await pipeline(Readable.fromWeb(answer.body as never), createWriteStream(file, { flags, mode: 0o600 }));
}

/**
 * Compares a copy of a bag, unpacked into a folder, by the SHA-256 of its files.
 *
 * @param compare sends paths below `data/`, with their sums.
 */
export async function checkCopy(
  folder: string,
  compare: (files: { path: string; sha256: string }[]) => Promise<CopyVerdict>,
): Promise<CopyVerdict> {
  const sum: CopyVerdict = { checked: 0, differs: [], unknown: [] };
  let batch: { path: string; sha256: string }[] = [];
  const send = async () => {
    const { checked, differs, unknown } = await compare(batch);
    batch = [];
    sum.checked += checked;
    sum.differs.push(...differs);
    sum.unknown.push(...unknown);
  };
  for (const entry of await readdir(folder, { recursive: true, withFileTypes: true }).catch(() => {
    throw new Stop(EXIT.usage, `${folder} can’t be read. Give the folder into which the archive was unpacked.`);
  })) {
    if (!entry.isFile()) continue;
    const path = join(entry.parentPath, entry.name);
    const below = path.split(sep).join('/').split('/data/').at(-1) as string;
    if (below === 'index.jsonl' || !path.split(sep).join('/').includes('/data/')) continue;
    batch.push({ path: below, sha256: await sha256Of(path) });
    if (batch.length >= AT_ONCE) await send();
  }
  if (batch.length > 0) await send();
  return sum;
}

async function sha256Of(path: string): Promise<string> {
  const hash = createHash('sha256');
  await pipeline(createReadStream(path), hash);
  return hash.digest('hex');
}
