import { useQueryClient } from '@tanstack/react-query';
import { useRef, useState } from 'react';
import type { Bag } from '../../contract/types';
import type { CopyToRead } from '../../workers/copies.worker';
import { useAccount } from '../api/account';
import { text } from '../text';
import { count } from '../text/format';
import { checkCopies, type Verdict } from './check-copies';
import { SaveInto } from './SaveInto';

/** A copy on the person's computer is read here, in a worker; what is sent is its sums. */
export function HandIn({ bag }: { bag: Bag }) {
  const { base, account } = useAccount();
  const client = useQueryClient();
  const archive = useRef<HTMLInputElement>(null);
  const folder = useRef<HTMLInputElement>(null);
  const [read, setRead] = useState<number>();
  const [verdict, setVerdict] = useState<Verdict>();
  const check = async (files: readonly CopyToRead[]) => {
    if (files.length === 0) return;
    setVerdict(undefined);
    setRead(0);
    setVerdict(await checkCopies(`${base}/bags/${bag.id}/check`, files, setRead));
    setRead(undefined);
    for (const key of ['bags', 'archive']) await client.invalidateQueries({ queryKey: [key, account.id] });
  };
  const chosen = ({ files }: HTMLInputElement) =>
    void check([...(files ?? [])].map((file) => ({ path: file.webkitRelativePath, file })));
  return (
    <span className="mt-1 block">
      <input ref={archive} type="file" multiple hidden data-hand-in onChange={({ target }) => chosen(target)} />
      <input ref={folder} type="file" hidden {...{ webkitdirectory: '' }} onChange={({ target }) => chosen(target)} />
      {(bag.place === 'here' ? bag.onlyHere.files === 0 : bag.checked.files === bag.saved.files) ? null : read ===
        undefined ? (
        <span className="flex flex-wrap gap-2">
          <button type="button" className="button" onClick={() => archive.current?.click()}>
            {text.files.handIn}
          </button>
          <button type="button" className="link" onClick={() => folder.current?.click()}>
            {text.files.handInFolder}
          </button>
          {bag.form === 'files' && <SaveInto bag={bag} onSaved={(files) => void check(files)} />}
        </span>
      ) : (
        <span role="status" className="note">
          {text.files.reading(count(read))}
        </span>
      )}
      {verdict && <Judged verdict={verdict} />}
    </span>
  );
}

/** What a copy that was read comes to. */
function Judged({ verdict }: { verdict: Verdict }) {
  return (
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
  );
}
