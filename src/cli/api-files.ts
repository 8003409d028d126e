import { createHash } from 'node:crypto';
import { createReadStream, createWriteStream } from 'node:fs';
import { open, readdir, stat } from 'node:fs/promises';
import { basename, join, sep } from 'node:path';
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

/** Octets that are sent at a time; the API takes so many. */
const SENT_AT_ONCE = 8 * 2 ** 20;

/** A bag whose file comes in. */
export interface ArrivingBag {
  id: number;
  brought: { name: string; size: number; received: number } | null;
}

/**
 * Sends the octets of a file, from the first that is not there yet.
 *
 * @param begin gives the bag for a file of a name and a size.
 * @param send gives the bag as it is after it got octets from a place on.
 */
export async function upload(
  path: string,
  begin: (name: string, size: number) => Promise<ArrivingBag>,
  send: (bag: number, at: number, octets: Uint8Array) => Promise<ArrivingBag>,
): Promise<ArrivingBag> {
  const file = await open(path).catch(() => {
    throw new Stop(EXIT.usage, `There is no file ${path} that can be read.`);
  });
  try {
    const { size } = await file.stat();
    if (size === 0) throw new Stop(EXIT.usage, `The file ${path} is empty.`);
    let bag = await begin(basename(path), size);
    for (let at = bag.brought?.received ?? 0; at < size; at = bag.brought?.received ?? size) {
      const length = Math.min(SENT_AT_ONCE, size - at);
      const { bytesRead, buffer } = await file.read(new Uint8Array(length), 0, length, at);
      if (bytesRead === 0) throw new Stop(EXIT.failed, `The file ${path} became shorter while it was sent.`);
      bag = await send(bag.id, at, buffer.subarray(0, bytesRead));
    }
    return bag;
  } finally {
    await file.close();
  }
}
