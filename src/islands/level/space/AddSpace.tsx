import { type FormEvent, useId, useState } from 'react';
import type { Space } from '../../../contract/types';
import { useChange } from '../../../ui/api/account';
import { useFoundSpaces } from '../../../ui/api/spaces';
import { Sheet } from '../../../ui/Sheet';
import { Refused } from '../../../ui/State';
import { text } from '../../../ui/text';

interface Entered {
  address: string;
  user?: string;
  password?: string;
}

/** Asks where the files are and who signs in there: what the host publishes stands in the field already. */
export function AddSpace({ open, onClose }: { open: boolean; onClose(): void }) {
  const found = useFoundSpaces(open);
  return (
    <Sheet title={text.space.addTitle} open={open} onClose={onClose}>
      <p>{text.space.addNote}</p>
      {found.isLoading ? (
        <p role="status" className="note">
          {text.space.looking}
        </p>
      ) : (
        <SpaceForm key={found.data?.[0]?.address ?? ''} found={found.data?.[0]} onDone={onClose} />
      )}
    </Sheet>
  );
}

function SpaceForm({
  found,
  onDone,
}: {
  found: { address: string; how: keyof typeof text.space.found; within: boolean } | undefined;
  onDone(): void;
}) {
  const [own, setOwn] = useState(false);
  const id = useId();
  const add = useChange<Entered, Space>(
    () => '/spaces',
    'POST',
    (body) => body,
    ['spaces', 'level'],
    onDone,
  );
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const data = new FormData(event.currentTarget);
    const said = (name: string) => String(data.get(name) ?? '');
    const entered = { address: said('address').trim() };
    add.mutate(own ? { ...entered, user: said('user').trim(), password: said('password') } : entered);
  };
  return (
    <form onSubmit={submit} className="grid gap-3">
      <div>
        <label htmlFor={`${id}-address`} className="note">
          {text.space.address}
        </label>
        <input
          id={`${id}-address`}
          name="address"
          className="field w-full"
          required
          defaultValue={found?.address ?? ''}
          placeholder="https://"
          autoComplete="off"
          spellCheck={false}
        />
        <p className="note mt-1">{found ? text.space.found[found.how] : text.space.notFound}</p>
        {found && !found.within && <p className="mt-1 text-go">{text.space.outside}</p>}
      </div>
      <fieldset className="grid gap-1.5">
        {[false, true].map((isOwn) => (
          <label key={`${isOwn}`} className="flex items-center gap-2">
            <input type="radio" name="how" checked={own === isOwn} onChange={() => setOwn(isOwn)} />
            {isOwn ? text.space.ownSignIn : text.space.sameSignIn}
          </label>
        ))}
      </fieldset>
      {own && <SignInFields />}
      <Refused error={add.error} />
      <button type="submit" className="button button-chief justify-self-start" disabled={add.isPending}>
        {add.isPending ? text.space.measuring : text.space.measure}
      </button>
    </form>
  );
}

/** Who signs in to a file space. */
export function SignInFields() {
  const id = useId();
  return (
    <div className="grid gap-3 sm:grid-cols-2">
      <div>
        <label htmlFor={`${id}-user`} className="note">
          {text.space.user}
        </label>
        <input id={`${id}-user`} name="user" required className="field w-full" autoComplete="off" />
      </div>
      <div>
        <label htmlFor={`${id}-password`} className="note">
          {text.space.password}
        </label>
        <input
          id={`${id}-password`}
          name="password"
          type="password"
          required
          className="field w-full"
          autoComplete="off"
        />
      </div>
    </div>
  );
}
