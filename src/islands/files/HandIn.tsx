import { useQueryClient } from '@tanstack/react-query';
import { useRef, useState } from 'react';
import type { Bag, CopyCheck } from '../../contract/types';
import { useAccount } from '../../ui/api/account';
import { call } from '../../ui/api/call';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import type { HandedIn } from '../../workers/copies.worker';

/** Files whose sums are sent at a time. */
const AT_ONCE = 500;

/** A copy on the person's computer is read here, in a worker; what is sent is its sums. */
export function HandIn({ bag }: { bag: Bag }) {
  const { base, account } = useAccount();
  const client = useQueryClient();
  const archive = useRef<HTMLInputElement>(null);
  const folder = useRef<HTMLInputElement>(null);
  const [read, setRead] = useState<number>();
  const [verdict, setVerdict] = useState<CopyCheck & { problem?: string }>();
  const check = async (files: FileList | null) => {
    if (!files || files.length === 0) return;
    const sum: CopyCheck & { problem?: string } = { checked: 0, differs: [], unknown: [] };
    setVerdict(undefined);
    setRead(0);
    let batch: HandedIn[] = [];
    const send = async () => {
      const body = { files: batch };
      batch = [];
      const one = await call<CopyCheck>(`${base}/bags/${bag.id}/check`, { method: 'POST', body });
      sum.checked += one.checked;
      sum.differs.push(...one.differs);
      sum.unknown.push(...one.unknown);
    };
    try {
      let number = 0;
      for await (const handedIn of sumsOf([...files])) {
        batch.push(handedIn);
        setRead(++number);
        if (batch.length >= AT_ONCE) await send();
      }
      if (batch.length > 0) await send();
    } catch (error) {
      sum.problem = error instanceof Error ? error.message : String(error);
    }
    setRead(undefined);
    setVerdict(sum);
    await client.invalidateQueries({ queryKey: ['bags', account.id] });
  };
  return (
    <span className="mt-1 block">
      <input
        ref={archive}
        type="file"
        multiple
        hidden
        data-hand-in
        onChange={({ target }) => void check(target.files)}
      />
      <input
        ref={folder}
        type="file"
        hidden
        {...{ webkitdirectory: '' }}
        onChange={({ target }) => void check(target.files)}
      />
      {read === undefined ? (
        <span className="flex flex-wrap gap-2">
          <button type="button" className="button" onClick={() => archive.current?.click()}>
            {text.files.handIn}
          </button>
          <button type="button" className="link" onClick={() => folder.current?.click()}>
            {text.files.handInFolder}
          </button>
        </span>
      ) : (
        <span role="status" className="note">
          {text.files.reading(count(read))}
        </span>
      )}
      {verdict && (
        <span role="status" className="block">
          {text.files.verdict(count(verdict.checked))}
          {verdict.differs.length > 0 && (
            <span className="block text-go">
              {text.files.differ(count(verdict.differs.length), verdict.differs.slice(0, 3).join(', '))}
            </span>
          )}
          {verdict.checked === 0 && verdict.differs.length === 0 && !verdict.problem && (
            <span className="block text-go">{text.files.noneOfThese}</span>
          )}
          {verdict.problem && <span className="block text-go">{text.files.unreadable(verdict.problem)}</span>}
        </span>
      )}
    </span>
  );
}

/** Paths and SHA-256 of what was handed in, as they are read. */
async function* sumsOf(files: File[]): AsyncGenerator<HandedIn> {
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
