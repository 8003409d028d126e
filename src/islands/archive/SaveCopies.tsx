import { Popover } from 'radix-ui';
import { type FormEvent, useState } from 'react';
import type { Bag } from '../../contract/types';
import { printText } from '../../core/criteria/print';
import { useChange, useLevel, useLots } from '../../ui/api/account';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';

/** What may be saved besides a folder. */
const ALL = 'all';
const PLAN = 'plan';

/** Saves copies of the whole mailbox, of a folder with those in it, or of what is in the plan; nothing changes there. */
export function SaveCopies() {
  const [open, setOpen] = useState(false);
  const [what, setWhat] = useState(ALL);
  const lots = useLots().data?.lots ?? [];
  const folders = (useLevel().data?.folders ?? []).filter(({ repeats }) => !repeats);
  const save = useChange<object, Bag>(
    () => '/bags',
    'POST',
    (asked) => ({ place: 'here', what: 'mail', ...asked }),
    ['bags'],
    () => setOpen(false),
  );
  const submit = (event: FormEvent) => {
    event.preventDefault();
    const folder = folders[Number(what)];
    if (what === PLAN) save.mutate({ lots: lots.map(({ id }) => id) });
    // The trash is a folder like any other here.
    else if (folder) save.mutate({ where: `under = ${printText(folder.path)}`, scope: 'all', label: folder.path });
    else save.mutate({ where: '', label: text.archive.wholeMailbox });
  };
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger className="button">{text.archive.saveCopies}</Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="end"
          sideOffset={4}
          aria-label={text.archive.saveCopies}
          className="card z-20 w-80 max-w-[94vw]"
        >
          <form className="grid gap-2" onSubmit={submit}>
            <p className="note">{text.archive.saveCopiesNote}</p>
            <label className="grid gap-1">
              {text.archive.copiesOf}
              <select className="field w-full" value={what} onChange={({ target }) => setWhat(target.value)}>
                <option value={ALL}>{text.archive.wholeMailbox}</option>
                {lots.length > 0 && (
                  <option value={PLAN}>{text.archive.ofPlan(text.strip.lots(lots.length, count(lots.length)))}</option>
                )}
                <optgroup label={text.archive.folderWithin}>
                  {folders.map(({ path }, at) => (
                    <option key={path} value={at}>
                      {path}
                    </option>
                  ))}
                </optgroup>
              </select>
            </label>
            <button type="submit" className="button button-chief" disabled={save.isPending}>
              {text.archive.saveThem}
            </button>
            <Refused error={save.error} />
          </form>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
