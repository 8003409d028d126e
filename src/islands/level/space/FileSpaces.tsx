import { type FormEvent, useState } from 'react';
import type { Level, Space } from '../../../contract/types';
import { QUOTA_UNIT } from '../../../core/space/share';
import { useChange, useFigures } from '../../../ui/api/account';
import { useSpaces } from '../../../ui/api/spaces';
import { Sheet } from '../../../ui/Sheet';
import { Refused } from '../../../ui/State';
import { text } from '../../../ui/text';
import { count } from '../../../ui/text/format';
import { AddSpace, SignInFields } from './AddSpace';

/** What of the quota is files: asked for where something is not mail, and told where it is known. */
export function FileSpaces({ level }: { level: Level }) {
  const spaces = useSpaces().data;
  const [adding, setAdding] = useState(false);
  const isAllMail = level.usedBy === 'server' && level.other <= QUOTA_UNIT;
  if (!spaces || (spaces.length === 0 && isAllMail)) return null;
  return (
    <>
      <Told spaces={spaces} level={level} add={() => setAdding(true)} />
      <AddSpace open={adding} onClose={() => setAdding(false)} />
    </>
  );
}

function Told({ spaces, level, add }: { spaces: readonly Space[]; level: Level; add(): void }) {
  const { octets } = useFigures();
  if (spaces.length === 0)
    return (
      <section className="card flex flex-wrap items-baseline justify-between gap-x-4 gap-y-1">
        <p>{level.usedBy === 'server' ? text.space.ask(octets(level.other)) : text.space.askUnknown}</p>
        <button type="button" className="button" onClick={add}>
          {text.space.add}
        </button>
      </section>
    );
  return (
    <section className="card grid gap-2">
      <div className="flex flex-wrap items-baseline justify-between gap-2">
        <h2>{text.space.title}</h2>
        <button type="button" className="link" onClick={add}>
          {text.space.another}
        </button>
      </div>
      {level.usedBy === 'server' && level.space && <Explained space={level.space} />}
      <ul className="grid gap-2">
        {spaces.map((space) => (
          <li key={space.id} className="grid gap-1 border-t border-hair pt-2 first:border-0 first:pt-0">
            <OneSpace space={space} />
          </li>
        ))}
      </ul>
    </section>
  );
}

/** Whether mail and files are all that the host counts. */
function Explained({ space }: { space: NonNullable<Level['space']> }) {
  const { octets } = useFigures();
  const { unexplained, toTheOctet, complete, shared } = space;
  return (
    <p>
      {!complete
        ? text.space.partly
        : Math.abs(unexplained) <= (toTheOctet ? 0 : QUOTA_UNIT)
          ? text.space[toTheOctet ? 'explained' : 'nearly']
          : unexplained > 0
            ? text.space.rest(octets(unexplained))
            : text.space.less(octets(-unexplained))}{' '}
      {shared.files > 0 && text.space.shared(text.space.files(shared.files, count(shared.files)), octets(shared.bytes))}
    </p>
  );
}

function OneSpace({ space }: { space: Space }) {
  const { octets, dayAndTime } = useFigures();
  const { address, own, listing, listedAt, problem, state, counts } = space;
  const path = `/spaces/${space.id}`;
  const again = useChange<void>(
    () => `${path}/listings`,
    'POST',
    () => ({}),
    ['spaces'],
  );
  const change = useChange<{ counts: boolean }>(
    () => path,
    'PATCH',
    (body) => body,
    ['spaces', 'level'],
  );
  const forget = useChange<void>(
    () => path,
    'DELETE',
    () => undefined,
    ['spaces', 'level'],
  );
  const [asking, setAsking] = useState<'forget' | 'sign-in'>();
  const isListing = listing.state === 'queued' || listing.state === 'running';
  const { done, total } = listing.folders;
  return (
    <>
      <p className="wrap-anywhere">
        <strong>{text.space.own(text.space.files(own.files, count(own.files)), octets(own.bytes), address)}</strong>{' '}
        {listing.state === 'queued' && text.space.queued}
        {listing.state === 'running' && <span role="status">{text.space.listing(count(done), count(total))}</span>}
        {listing.state === 'done' && listedAt && text.space.listed(dayAndTime(listedAt))}{' '}
        {counts === true && text.space.counts}
        {counts === false && text.space.apart}
      </p>
      {listing.state === 'failed' && problem && <p className="text-go">{text.space.failed(problem.detail)}</p>}
      {state === 'locked' && <p className="text-go">{text.space.locked}</p>}
      {counts === null && (
        <p className="flex flex-wrap items-baseline gap-2">
          {text.space.unknown}
          <button type="button" className="button" onClick={() => change.mutate({ counts: true })}>
            {text.space.doCount}
          </button>
          <button type="button" className="button" onClick={() => change.mutate({ counts: false })}>
            {text.space.dontCount}
          </button>
        </p>
      )}
      <p className="flex flex-wrap gap-4">
        {!isListing && (
          <button type="button" className="link" onClick={() => again.mutate()}>
            {text.space.again}
          </button>
        )}
        {state === 'locked' && (
          <button type="button" className="link" onClick={() => setAsking('sign-in')}>
            {text.space.signInAgain}
          </button>
        )}
        <button type="button" className="link" onClick={() => setAsking('forget')}>
          {text.space.forget}
        </button>
      </p>
      <Refused error={again.error ?? change.error ?? forget.error} />
      <Sheet title={text.space.forget} open={asking === 'forget'} onClose={() => setAsking(undefined)} small>
        <p className="my-3">{text.space.forgotten}</p>
        <p className="flex gap-2">
          <button type="button" className="button button-chief" onClick={() => forget.mutate()}>
            {text.space.forgetIt}
          </button>
          <button type="button" className="button" onClick={() => setAsking(undefined)}>
            {text.space.keepIt}
          </button>
        </p>
      </Sheet>
      <SignInAgain path={path} open={asking === 'sign-in'} onClose={() => setAsking(undefined)} />
    </>
  );
}

function SignInAgain({ path, open, onClose }: { path: string; open: boolean; onClose(): void }) {
  const save = useChange<{ user: string; password: string }>(
    () => path,
    'PATCH',
    (body) => body,
    ['spaces'],
  );
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const data = new FormData(event.currentTarget);
    const said = { user: String(data.get('user')).trim(), password: String(data.get('password')) };
    save.mutate(said, { onSuccess: onClose });
  };
  return (
    <Sheet title={text.space.signInAgain} open={open} onClose={onClose} small>
      <form onSubmit={submit} className="mt-3 grid gap-3">
        <SignInFields />
        <Refused error={save.error} />
        <button type="submit" className="button button-chief justify-self-start" disabled={save.isPending}>
          {text.space.signInAgain}
        </button>
      </form>
    </Sheet>
  );
}
