import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import type { Space, Upload, UploadEstimate } from '../../contract/types';
import { useAccount, useChange, useFigures } from '../../ui/api/account';
import { call } from '../../ui/api/call';
import { useSpaces } from '../../ui/api/spaces';
import { Sheet } from '../../ui/Sheet';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';

/** Files of messages, by what selects them. */
export type ChosenFiles = { where: string } | { ids: number[] };

/** Moves marked files to a file space: first it is said what that wins, then they are put there. */
export function MoveToSpace({
  disabled,
  choose,
  onMoved,
}: {
  disabled: boolean;
  choose(): Promise<ChosenFiles | undefined>;
  onMoved(): void;
}) {
  const spaces = (useSpaces().data ?? []).filter(({ state, listedAt }) => state === 'active' && listedAt);
  const [chosen, setChosen] = useState<ChosenFiles>();
  if (spaces.length === 0) return null;
  return (
    <>
      <button type="button" className="button" disabled={disabled} onClick={() => void choose().then(setChosen)}>
        {text.upload.button}
      </button>
      <Sheet title={text.upload.sheet} open={chosen !== undefined} onClose={() => setChosen(undefined)}>
        {chosen && (
          <Choice
            chosen={chosen}
            spaces={spaces}
            onMoved={() => {
              setChosen(undefined);
              onMoved();
            }}
          />
        )}
      </Sheet>
    </>
  );
}

function Choice({ chosen, spaces, onMoved }: { chosen: ChosenFiles; spaces: Space[]; onMoved(): void }) {
  const { account, base } = useAccount();
  const { octets } = useFigures();
  const [space, setSpace] = useState(spaces[0]?.id ?? 0);
  const [folder, setFolder] = useState<string>(text.upload.folder);
  const path = `/spaces/${space}/uploads`;
  const estimate = useQuery({
    queryKey: ['upload-estimate', account.id, space, chosen],
    queryFn: () => call<UploadEstimate>(`${base}${path}/estimate`, { method: 'POST', body: chosen }),
    retry: false,
  });
  const put = useChange<void, Upload>(
    () => path,
    'POST',
    () => ({ ...chosen, folder }),
    ['uploads'],
    onMoved,
  );
  const found = estimate.data;
  return (
    <form
      className="grid gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        put.mutate();
      }}
    >
      <p>{text.upload.how}</p>
      {spaces.length > 1 && (
        <label className="grid gap-1">
          {text.upload.which}
          <select className="field w-full" value={space} onChange={({ target }) => setSpace(Number(target.value))}>
            {spaces.map(({ id, address }) => (
              <option key={id} value={id}>
                {address}
              </option>
            ))}
          </select>
        </label>
      )}
      <label className="grid gap-1">
        {text.upload.into}
        <input
          className="field w-full"
          value={folder}
          maxLength={500}
          required
          onChange={({ target }) => setFolder(target.value)}
        />
        <span className="note">{text.upload.intoNote}</span>
      </label>
      <Refused error={estimate.error ?? put.error} />
      {!found ? (
        !estimate.error && <p role="status">{text.upload.counting}</p>
      ) : (
        <>
          <dl className="grid grid-cols-[minmax(0,1fr)_auto] gap-x-4 gap-y-1">
            <dt>{text.upload.lessMail(found.inMail.files, count(found.inMail.files))}</dt>
            <dd className="text-right">
              <strong>{octets(found.inMail.bytes)}</strong>
            </dd>
            <dt>{text.upload.moreFiles}</dt>
            <dd className="text-right">{text.upload.about(octets(found.inSpace))}</dd>
            {found.available !== null && (
              <>
                <dt>{text.upload.room}</dt>
                <dd className="text-right">{octets(found.available)}</dd>
              </>
            )}
          </dl>
          <p className="border-l-2 border-go pl-3">
            {found.counts === null
              ? text.upload.unknown
              : found.counts
                ? text.upload.shared(octets(Math.max(0, found.inMail.bytes - found.inSpace)))
                : text.upload.apart(octets(found.inMail.bytes))}
          </p>
          {found.available !== null && found.available < found.inSpace && (
            <p className="text-go">{text.upload.tight}</p>
          )}
          <p className="note">{text.upload.without}</p>
        </>
      )}
      <button
        type="submit"
        className="button button-chief self-start justify-self-start"
        disabled={put.isPending || !found || found.inMail.files === 0}
      >
        {text.upload.putThem(found?.inMail.files ?? 0, count(found?.inMail.files ?? 0))}
      </button>
    </form>
  );
}
