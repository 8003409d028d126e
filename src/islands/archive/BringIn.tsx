import { Popover } from 'radix-ui';
import { type FormEvent, useRef, useState } from 'react';
import type { Bag } from '../../contract/types';
import { QUOTINGS, type Quoting } from '../../core/brought/quoting';
import { useAccount, useChange } from '../../ui/api/account';
import { sendFile, useIsSending } from '../../ui/copies/sending';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';

/** Ways in which a person may know that an mbox file is quoted. */
const KNOWN = QUOTINGS.filter((quoting) => quoting !== 'none');

/** Brings in mail that was saved elsewhere: a file is chosen and sent, and its mail is read on the machine. */
export function BringIn() {
  const { base } = useAccount();
  const [open, setOpen] = useState(false);
  const [file, setFile] = useState<File>();
  const [folder, setFolder] = useState('');
  const [quoting, setQuoting] = useState<Quoting | ''>('');
  const [failure, setFailure] = useState<Error | null>(null);
  const begin = useChange<File, Bag>(
    () => '/bring-in',
    'POST',
    ({ name, size }) => ({ name, size, folder, ...(quoting === '' ? {} : { quoting }) }),
    ['bags'],
    () => setOpen(false),
  );
  const submit = async (event: FormEvent) => {
    event.preventDefault();
    if (!file) return;
    setFailure(null);
    const bag = await begin.mutateAsync(file).catch(() => undefined);
    if (bag) await sendFile(base, bag, file).catch(setFailure);
  };
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger className="button">{text.archive.bringIn}</Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="end"
          sideOffset={4}
          aria-label={text.archive.bringIn}
          className="card z-20 w-96 max-w-[94vw]"
        >
          <form className="grid gap-2" onSubmit={(event) => void submit(event)}>
            <p className="note">{text.archive.bringInNote}</p>
            <label className="grid gap-1">
              {text.archive.bringInFile}
              <input
                type="file"
                required
                data-bring-in
                className="field w-full"
                onChange={({ target }) => setFile(target.files?.[0])}
              />
            </label>
            <label className="grid gap-1">
              {text.archive.bringInFolder}
              <input
                className="field"
                maxLength={500}
                placeholder={text.archive.bringInNoFolder}
                value={folder}
                onChange={({ target }) => setFolder(target.value)}
              />
            </label>
            <label className="grid gap-1">
              {text.archive.quoting}
              <select
                className="field w-full"
                value={quoting}
                onChange={({ target }) => setQuoting(target.value as Quoting | '')}
              >
                <option value="">{text.archive.quotingTold}</option>
                {KNOWN.map((one) => (
                  <option key={one} value={one}>
                    {text.archive.quotings[one]}
                  </option>
                ))}
              </select>
            </label>
            <button type="submit" className="button button-chief" disabled={begin.isPending || !file}>
              {text.archive.bringItIn}
            </button>
            <Refused error={begin.error} />
          </form>
        </Popover.Content>
      </Popover.Portal>
      <Refused error={failure} />
    </Popover.Root>
  );
}

/** A file that comes in, and that this page does not send: it is chosen again, and goes on where it broke off. */
export function GoOn({ bag }: { bag: Bag }) {
  const { base } = useAccount();
  const isSending = useIsSending(bag.id);
  const input = useRef<HTMLInputElement>(null);
  const [failure, setFailure] = useState<Error | null>(null);
  if (bag.state !== 'receiving' || !bag.brought || isSending) return null;
  const { name, size } = bag.brought;
  const chosen = (file: File | undefined) => {
    if (!file) return;
    if (file.name !== name || file.size !== size) return setFailure(new Error(text.archive.otherFile(name)));
    setFailure(null);
    void sendFile(base, bag, file).catch(setFailure);
  };
  return (
    <>
      <input ref={input} type="file" hidden onChange={({ target }) => chosen(target.files?.[0])} />
      <button type="button" className="link" onClick={() => input.current?.click()}>
        {text.archive.goOn}
      </button>
      {' · '}
      <Refused error={failure} />
    </>
  );
}
