import { useState } from 'react';
import type { FileLot } from '../../contract/types';
import { SHRUNK_LENGTHS, type Shrinking } from '../../core/files/shrinking';
import { OF_THE_PLAN, useChange } from '../../ui/api/account';
import { Sheet } from '../../ui/Sheet';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';
import type { FileSelector } from '../../workers/protocol';
import { ShrinkChoice, ShrunkExample } from './ShrinkChoice';

/** Marked pictures of a file space, to be made smaller there: how much, and one of them before and after. */
export function ShrinkInSpace({
  choose,
  onMarked,
}: {
  choose(): Promise<{ ids: number[]; example: FileSelector['keptPicture'] }>;
  onMarked(): void;
}) {
  const [chosen, setChosen] = useState<Awaited<ReturnType<typeof choose>>>();
  const [by, setBy] = useState<Shrinking>({ longest: SHRUNK_LENGTHS[0], place: 'keep' });
  const plan = useChange<{ ids: number[] }, { lots: FileLot[] }>(
    () => '/file-lots',
    'POST',
    ({ ids }) => ({ fate: 'shrink', shrinking: by, ids, label: text.files.smallerLot }),
    OF_THE_PLAN,
    () => {
      setChosen(undefined);
      onMarked();
    },
  );
  return (
    <>
      <button type="button" className="button" onClick={() => void choose().then(setChosen)}>
        {text.files.shrinkThere}
      </button>
      <Sheet title={text.files.shrinkTitle} open={chosen !== undefined} onClose={() => setChosen(undefined)}>
        {chosen && !chosen.example && <p>{text.files.noPictures}</p>}
        {chosen?.example && (
          <>
            <p className="note">{text.files.shrinkThereNote}</p>
            <ShrinkChoice by={by} onChange={setBy} />
            <button
              type="button"
              className="button button-chief self-start"
              disabled={plan.isPending}
              onClick={() => plan.mutate(chosen)}
            >
              {text.files.addSmaller}
            </button>
            <Refused error={plan.error} />
            <ShrunkExample path={`/space-files/${chosen.example.id}`} name={chosen.example.name} by={by} />
          </>
        )}
      </Sheet>
    </>
  );
}
