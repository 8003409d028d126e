import { useState } from 'react';
import type { Bag, BagFile } from '../../contract/types';
import type { CopyToRead } from '../../workers/copies.worker';
import { useAccount } from '../api/account';
import { call } from '../api/call';
import { text } from '../text';
import { count } from '../text/format';

/** Of the File System Access API, which not every browser has (WICG draft): a folder that the person chooses. */
declare global {
  interface Window {
    showDirectoryPicker?(options: { id: string; mode: 'readwrite' }): Promise<FileSystemDirectoryHandle>;
  }
}

/** What a bag has besides its files (RFC 8493 §2); the manifest comes last, so that a broken copy shows. */
const TAG_FILES = ['data/index.jsonl', 'bagit.txt', 'bag-info.txt', 'tagmanifest-sha256.txt', 'manifest-sha256.txt'];
const PAGE = 1_000;

/** Writes a set straight into a folder of the person's, where the browser can; what was written is read back then. */
export function SaveInto({ bag, onSaved }: { bag: Bag; onSaved(files: CopyToRead[]): void }) {
  const { base } = useAccount();
  const [written, setWritten] = useState<number>();
  const [problem, setProblem] = useState<string>();
  if (typeof window === 'undefined' || !window.showDirectoryPicker) return null;
  const save = async () => {
    setProblem(undefined);
    try {
      const chosen = await window.showDirectoryPicker?.({ id: 'tamsel', mode: 'readwrite' });
      if (!chosen) return;
      setWritten(0);
      const folder = await chosen.getDirectoryHandle(bag.folder, { create: true });
      const saved: CopyToRead[] = [];
      for await (const path of pathsOf(`${base}/bags/${bag.id}/files`)) {
        const handle = await writeInto(
          folder,
          path,
          `/api${base}/bags/${bag.id}/download?path=${encodeURIComponent(path)}`,
        );
        saved.push({ path, file: await handle.getFile() });
        setWritten(saved.length);
      }
      onSaved(saved);
    } catch (error) {
      // Nobody chose a folder.
      if (!(error instanceof DOMException && error.name === 'AbortError'))
        setProblem(error instanceof Error ? error.message : String(error));
    }
    setWritten(undefined);
  };
  return (
    <>
      {written === undefined ? (
        <button type="button" className="link" onClick={() => void save()}>
          {text.files.saveInto}
        </button>
      ) : (
        <span role="status" className="note">
          {text.files.writing(count(written))}
        </span>
      )}
      {problem && <span className="block text-go">{text.files.notWritten(problem)}</span>}
    </>
  );
}

/** All paths of a bag, page by page. */
async function* pathsOf(list: string): AsyncGenerator<string> {
  for (let after: number | undefined = 0; after !== undefined; ) {
    const page: { files: BagFile[]; next?: number } = await call(`${list}?limit=${PAGE}&after=${after}`);
    for (const { path } of page.files) if (path !== undefined) yield `data/${path}`;
    after = page.next;
  }
  yield* TAG_FILES;
}

/** Writes what a call answers to a path below a folder. What breaks off leaves an empty file, which is not equal to the one that was saved. */
async function writeInto(folder: FileSystemDirectoryHandle, path: string, from: string): Promise<FileSystemFileHandle> {
  const levels = path.split('/');
  let parent = folder;
  for (const level of levels.slice(0, -1)) parent = await parent.getDirectoryHandle(level, { create: true });
  const response = await fetch(from);
  if (!response.ok || !response.body) throw new Error(text.files.notSent(path));
  const handle = await parent.getFileHandle(levels.at(-1) as string, { create: true });
  await response.body.pipeTo(await handle.createWritable());
  return handle;
}
