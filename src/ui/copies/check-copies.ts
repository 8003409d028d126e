import type { CopyCheck } from '../../contract/types';
import type { CopyToRead, HandedIn } from '../../workers/copies.worker';
import { call } from '../api/call';

/** Files whose sums are sent at a time. */
const AT_ONCE = 500;

/** What a copy comes to, and why it could not be read to its end. */
export type Verdict = CopyCheck & { problem?: string };

/**
 * Reads a copy in a worker and sends its sums.
 *
 * @param path of the call that compares them.
 * @param progress is told how many files were read.
 */
export async function checkCopies(
  path: string,
  files: readonly CopyToRead[],
  progress: (read: number) => void,
): Promise<Verdict> {
  const verdict: Verdict = { checked: 0, differs: [], unknown: [] };
  let batch: HandedIn[] = [];
  const send = async () => {
    const body = { files: batch };
    batch = [];
    const one = await call<CopyCheck>(path, { method: 'POST', body });
    verdict.checked += one.checked;
    verdict.differs.push(...one.differs);
    verdict.unknown.push(...one.unknown);
  };
  try {
    let number = 0;
    for await (const handedIn of sumsOf(files)) {
      batch.push(handedIn);
      progress(++number);
      if (batch.length >= AT_ONCE) await send();
    }
    if (batch.length > 0) await send();
  } catch (error) {
    verdict.problem = error instanceof Error ? error.message : String(error);
  }
  return verdict;
}

/** Paths and SHA-256 of what was handed in, as they are read. */
async function* sumsOf(files: readonly CopyToRead[]): AsyncGenerator<HandedIn> {
  const worker = new Worker(new URL('../../workers/copies.worker.ts', import.meta.url), { type: 'module' });
  const waiting: (HandedIn | null | Error)[] = [];
  let wake = () => {};
  worker.onmessage = ({ data }: MessageEvent<HandedIn | null | { problem: string }>) => {
    waiting.push(data && 'problem' in data ? new Error(data.problem) : data);
    wake();
  };
  worker.onerror = ({ message }) => {
    waiting.push(new Error(message));
    wake();
  };
  worker.postMessage(files);
  try {
    for (;;) {
      const next = waiting.shift();
      if (next === undefined) {
        await new Promise<void>((resolve) => {
          wake = resolve;
        });
        continue;
      }
      if (next === null) return;
      if (next instanceof Error) throw next;
      yield next;
    }
  } finally {
    worker.terminate();
  }
}
