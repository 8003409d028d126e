import { Popover } from 'radix-ui';
import { useRef, useState } from 'react';
import type { SheetReading } from '../../../contract/types';
import type { GroupingKind } from '../../../core/senders/grouping';
import type { GroupOrder } from '../../../core/senders/ranking';
import { OF_THE_PLAN, useAccount, useChange } from '../../../ui/api/account';
import { query } from '../../../ui/api/call';
import { Refused } from '../../../ui/State';
import { text } from '../../../ui/text';
import { Preview } from './Preview';

/** The ranking out to a spreadsheet program, and back with decisions. */
export function DecisionSheet({ by, order, where }: { by: GroupingKind; order: GroupOrder; where: string }) {
  const { base } = useAccount();
  const file = useRef<HTMLInputElement>(null);
  const [sheet, setSheet] = useState('');
  const read = useChange<{ sheet: string; apply: boolean }, SheetReading>(
    () => '/decisions/sheet',
    'POST',
    ({ sheet: content, apply }) => ({ sheet: content, apply, where }),
    OF_THE_PLAN,
  );
  const choose = async (chosen: File | undefined) => {
    if (!chosen) return;
    const content = await chosen.text();
    setSheet(content);
    read.mutate({ sheet: content, apply: false });
    if (file.current) file.current.value = '';
  };
  const reading = read.data && !read.data.applied ? read.data : undefined;
  return (
    <>
      <Popover.Root>
        <Popover.Trigger className="button">{text.senders.sheet}</Popover.Trigger>
        <Popover.Portal>
          <Popover.Content
            align="end"
            sideOffset={4}
            aria-label={text.senders.sheet}
            className="card z-20 grid w-72 gap-3"
          >
            <p className="note">{text.senders.sheetNote}</p>
            <a
              className="button text-center"
              href={`/api${base}/decisions/sheet${query({ by, order, where })}`}
              download
            >
              {text.senders.download}
            </a>
            <label className="grid gap-1">
              <span className="note">{text.senders.bringBack}</span>
              <input
                ref={file}
                type="file"
                accept=".csv,text/csv"
                onChange={(event) => void choose(event.target.files?.[0])}
              />
            </label>
            <Refused error={read.error} />
          </Popover.Content>
        </Popover.Portal>
      </Popover.Root>
      <Preview
        reading={reading}
        pending={read.isPending}
        onClose={() => read.reset()}
        onApply={() => read.mutate({ sheet, apply: true })}
      />
    </>
  );
}
