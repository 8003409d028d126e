import { sha256 } from '@noble/hashes/sha2.js';
import { bytesToHex } from '@noble/hashes/utils.js';
import { BlobReader, type FileEntry, ZipReader } from '@zip.js/zip.js';

/** A file of a copy: its path below `data/` of its bag, and its SHA-256 in hexadecimal. */
export interface HandedIn {
  path: string;
  sha256: string;
}

/** A file that is to be read, with its path in the folder that was handed in; '' where it came by itself. */
export interface CopyToRead {
  path: string;
  file: File;
}

/** Reads what a person hands in: files, a folder of files, or ZIP archives. Nothing of it leaves the browser but its sums. */
addEventListener('message', async ({ data }: MessageEvent<CopyToRead[]>) => {
  try {
    for (const { path, file } of data) {
      if (file.name.endsWith('.zip') && path === '') await readArchive(file);
      else await tell(path || file.name, file.stream());
    }
    postMessage(null);
  } catch (error) {
    postMessage({ problem: error instanceof Error ? error.message : String(error) });
  }
});

async function readArchive(file: File): Promise<void> {
  const reader = new ZipReader(new BlobReader(file));
  try {
    for await (const entry of reader.getEntriesGenerator()) {
      if (entry.directory) continue;
      const { readable, writable } = new TransformStream<Uint8Array, Uint8Array>();
      const [, told] = await Promise.allSettled([
        (entry as FileEntry).getData(writable, { checkSignature: false, useWebWorkers: false }),
        tell(entry.filename, readable),
      ]);
      if (told.status === 'rejected') throw told.reason;
    }
  } finally {
    await reader.close();
  }
}

async function tell(path: string, octets: ReadableStream<Uint8Array>): Promise<void> {
  const below = inData(path);
  if (below === undefined) {
    await octets.cancel();
    return;
  }
  const hash = sha256.create();
  const reader = octets.getReader();
  for (let read = await reader.read(); !read.done; read = await reader.read()) hash.update(read.value);
  postMessage({ path: below, sha256: bytesToHex(hash.digest()) } satisfies HandedIn);
}

/** The path below `data/`, where that was handed in too; undefined for the index of the bag. */
function inData(path: string): string | undefined {
  const at = `/${path}`.lastIndexOf('/data/');
  const below = at < 0 ? path : `/${path}`.slice(at + '/data/'.length);
  return below === 'index.jsonl' ? undefined : below;
}
