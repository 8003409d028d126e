import { useQuery } from '@tanstack/react-query';
import { Popover } from 'radix-ui';
import { type FormEvent, useState } from 'react';
import type { SavedFilter } from '../../contract/types';
import { useAccount, useChange } from '../../ui/api/account';
import { call } from '../../ui/api/call';
import { text } from '../../ui/text';

/** Criteria that were named and kept: offered again, and these added to them. */
export function SavedFilters({ where, onChoose }: { where: string; onChoose(where: string): void }) {
  const { account, base } = useAccount();
  const [open, setOpen] = useState(false);
  const kept = useQuery({
    queryKey: ['kept', account.id],
    queryFn: () => call<{ filters: SavedFilter[] }>(`${base}/filters`),
  }).data?.filters;
  const keep = useChange<string>(
    () => '/filters',
    'POST',
    (name) => ({ name, where }),
    ['kept'],
  );
  const forget = useChange<number>(
    (id) => `/filters/${id}`,
    'DELETE',
    () => undefined,
    ['kept'],
  );
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const name = `${new FormData(event.currentTarget).get('name') ?? ''}`.trim();
    if (name !== '') keep.mutate(name, { onSuccess: () => setOpen(false) });
  };
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger className="button">{text.sift.keep}</Popover.Trigger>
      <Popover.Portal>
        <Popover.Content align="end" sideOffset={4} aria-label={text.sift.keep} className="card z-20 grid w-72 gap-3">
          {where !== '' && (
            <form onSubmit={submit} className="grid gap-2">
              <label htmlFor="kept-name" className="note">
                {text.sift.keepName}
              </label>
              <span className="flex gap-2">
                <input id="kept-name" name="name" required maxLength={200} className="field min-w-0 flex-1" />
                <button type="submit" className="button" disabled={keep.isPending}>
                  {text.sift.keepNow}
                </button>
              </span>
              {keep.error && (
                <span role="alert" className="text-go">
                  {keep.error.message}
                </span>
              )}
            </form>
          )}
          {kept && kept.length > 0 ? (
            <ul className="grid gap-1">
              {kept.map(({ id, name, where: criteria }) => (
                <li key={id} className="flex items-baseline justify-between gap-2">
                  <button
                    type="button"
                    className="min-w-0 truncate text-left hover:underline"
                    title={criteria}
                    onClick={() => {
                      setOpen(false);
                      onChoose(criteria);
                    }}
                  >
                    {name} <span className="note font-mono">{criteria}</span>
                  </button>
                  <button type="button" aria-label={text.sift.forget(name)} onClick={() => forget.mutate(id)}>
                    ×
                  </button>
                </li>
              ))}
            </ul>
          ) : (
            <p className="note">{text.sift.noneKept}</p>
          )}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
