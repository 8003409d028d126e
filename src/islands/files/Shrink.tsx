import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import type { Bag, BagFile, Lot } from '../../contract/types';
import { SHRUNK_LENGTHS, type Shrinking } from '../../core/files/shrinking';
import { OF_THE_PLAN, useAccount, useChange } from '../../ui/api/account';
import { call } from '../../ui/api/call';
import { Sheet } from '../../ui/Sheet';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { ShrinkChoice, ShrunkExample } from './ShrinkChoice';

/** Formats that are made smaller, by their names. */
const SHRUNK = /\.(jpe?g|png|webp)$/i;

/** The pictures of a checked set, to be made smaller in the mail: how much, and one of them before and after. */
export function Shrink({ bag, onPlanned }: { bag: Bag; onPlanned(lot: Lot): void }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <button type="button" className="link" disabled={bag.checked.files === 0} onClick={() => setOpen(true)}>
        {text.files.shrink}
      </button>
      <Sheet title={text.files.shrinkTitle} open={open} onClose={() => setOpen(false)}>
        {open && (
          <Choice
            bag={bag}
            onPlanned={(lot) => {
              setOpen(false);
              onPlanned(lot);
            }}
          />
        )}
      </Sheet>
    </>
  );
}

function Choice({ bag, onPlanned }: { bag: Bag; onPlanned(lot: Lot): void }) {
  const [by, setBy] = useState<Shrinking>({ longest: SHRUNK_LENGTHS[0], place: 'keep' });
  const { hasNone } = usePictures(bag);
  const plan = useChange<undefined, Lot>(
    () => '/lots',
    'POST',
    () => ({ fate: 'shrink', bag: bag.id, label: bag.label, shrinking: by }),
    OF_THE_PLAN,
  );
  return (
    <>
      <p className="note">{text.files.shrinkNote}</p>
      <ShrinkChoice by={by} onChange={setBy} />
      <button
        type="button"
        className="button button-chief self-start"
        disabled={plan.isPending || hasNone}
        onClick={() => plan.mutate(undefined, { onSuccess: onPlanned })}
      >
        {text.files.addSmaller}
      </button>
      <Refused error={plan.error} />
      <Example bag={bag} by={by} />
    </>
  );
}

/** Pictures among the first files of a set, of the formats that are made smaller. */
function usePictures(bag: Bag): { pictures: BagFile[]; hasNone: boolean } {
  const { base, account } = useAccount();
  const files = useQuery({
    queryKey: ['bag-files', account.id, bag.id],
    queryFn: () => call<{ files: BagFile[]; next?: number }>(`${base}/bags/${bag.id}/files?limit=1000`),
  });
  const pictures = files.data?.files.filter(({ path = '' }) => SHRUNK.test(path)) ?? [];
  return { pictures, hasNone: files.data !== undefined && files.data.next === undefined && pictures.length === 0 };
}

/** One of the largest pictures of the set, as it is and as it would be. */
function Example({ bag, by }: { bag: Bag; by: Shrinking }) {
  const { pictures, hasNone } = usePictures(bag);
  const file = pictures.reduce<BagFile | undefined>(
    (most, one) => (!most || one.encoded > most.encoded ? one : most),
    undefined,
  );
  if (hasNone) return <p className="note">{text.files.noExample}</p>;
  if (!file) return null;
  return <ShrunkExample path={`/files/${file.file}`} name={file.path?.split('/').at(-1) ?? ''} by={by} />;
}
