import { type ReactNode, useEffect, useState } from 'react';
import { useAccount } from '../../ui/api/account';
import type { FileRow } from '../../workers/protocol';

/** Where a file is asked for, below the path of its account. */
export function pathOfFile({ place, file }: Pick<FileRow, 'place' | 'file'>): string {
  return place === 'space' ? `/space-files/${file}` : `/files/${file}`;
}

/** Milliseconds for which a file is in view before its picture is asked for: what scrolls by is not. */
const SETTLED_MS = 120;

/** A small picture of a file, or what stands for it while there is none. */
export function Thumbnail({ file, children }: { file: FileRow; children: ReactNode }) {
  const { account } = useAccount();
  const [isAsked, setAsked] = useState(false);
  const [state, setState] = useState<'waiting' | 'shown' | 'none'>('waiting');
  const isPicture = file.kind === 'picture';
  useEffect(() => {
    if (!isPicture) return;
    const timer = setTimeout(() => setAsked(true), SETTLED_MS);
    return () => clearTimeout(timer);
  }, [isPicture]);
  return (
    <>
      {isAsked && state !== 'none' && (
        <img
          src={`/api/accounts/${account.id}${pathOfFile(file)}/preview`}
          alt=""
          draggable={false}
          onLoad={() => setState('shown')}
          onError={() => setState('none')}
          className={state === 'shown' ? 'h-full w-full object-contain' : 'hidden'}
        />
      )}
      {state !== 'shown' && children}
    </>
  );
}
