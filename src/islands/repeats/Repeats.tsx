import { useState } from 'react';
import type { Repeats as Found, Proof } from '../../contract/types';
import { useChange, useFigures } from '../../ui/api/account';
import { REPEATS_STALE, useRepeats } from '../../ui/api/repeats';
import { Bar } from '../../ui/Bar';
import { Failed, Loading, Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import { DoubledFiles } from './DoubledFiles';
import { Echoes } from './Echoes';
import { Folders } from './Folders';
import { Pictures } from './Pictures';
import { RepeatedFiles } from './RepeatedFiles';
import { Twins } from './Twins';

const KINDS = ['twins', 'folders', 'echoes', 'files', 'pictures', 'spaces'] as const;
type Kind = (typeof KINDS)[number];
type Reading = Proof['what'];

/** What is read to tell each kind. */
const READ: Record<Kind, Reading> = {
  twins: 'messages',
  folders: 'messages',
  echoes: 'threads',
  files: 'files',
  pictures: 'pictures',
  spaces: 'spaces',
};

/** What is stored more than once: each kind with what it would win, and the proof of each copy. */
export default function Repeats() {
  const found = useRepeats();
  const [kind, setKind] = useState<Kind>('twins');
  if (found.error) return <Failed error={found.error} retry={() => void found.refetch()} />;
  if (!found.data) return <Loading />;
  return (
    <>
      <h1 className="sr-only">{text.places.repeats}</h1>
      <Kinds found={found.data} kind={kind} onChoose={setKind} />
      <Compare key={READ[kind]} found={found.data} what={READ[kind]} />
      <Broken found={found.data} />
      {kind === 'twins' && <Twins found={found.data} />}
      {kind === 'folders' && <Folders found={found.data} />}
      {kind === 'echoes' && <Echoes found={found.data} />}
      {kind === 'files' && <RepeatedFiles found={found.data} />}
      {kind === 'pictures' && <Pictures found={found.data} />}
      {kind === 'spaces' && <DoubledFiles found={found.data} />}
      <HowSure found={found.data} what={READ[kind]} />
    </>
  );
}

/** The kinds of repeats beside each other, with bars against the one that wins most. */
function Kinds({ found, kind, onChoose }: { found: Found; kind: Kind; onChoose(kind: Kind): void }) {
  const { octets } = useFigures();
  const { twins, folders, echoes, files, pictures, spaces } = found;
  // Where there is no file space, nothing can lie in one.
  const shown = KINDS.filter((one) => one !== 'spaces' || found.hasSpaces);
  const inFolders = folders.reduce((sum, { going }) => sum + going.bytes, 0);
  const figures: Record<Kind, { bytes: number; note: string }> = {
    twins: {
      bytes: twins.going.bytes,
      note: text.repeats.twinsNote(twins.going.messages, count(twins.going.messages), count(twins.groups)),
    },
    folders: { bytes: inFolders, note: text.repeats.foldersNote(folders.length, count(folders.length)) },
    echoes: {
      bytes: echoes.going.bytes,
      note: text.repeats.echoesShort(text.messages(echoes.going.messages, count(echoes.going.messages))),
    },
    files: {
      bytes: files.going.bytes,
      note: text.repeats.filesShort(files.going.files, count(files.going.files), count(files.groups)),
    },
    pictures: {
      bytes: pictures.beside.bytes,
      note: text.repeats.picturesShort(count(pictures.beside.files), count(pictures.series)),
    },
    spaces: {
      bytes: spaces.going.bytes,
      note: text.repeats.filesShort(spaces.going.files, count(spaces.going.files), count(spaces.groups)),
    },
  };
  const most = Math.max(1, ...shown.map((one) => figures[one].bytes));
  return (
    <div
      className="grid grid-cols-[repeat(auto-fit,minmax(160px,1fr))] gap-3.5"
      role="tablist"
      aria-label={text.repeats.kinds}
    >
      {shown.map((one) => (
        <button
          key={one}
          type="button"
          role="tab"
          aria-selected={one === kind}
          className={`card text-left ${one === kind ? 'border-ink' : ''}`}
          onClick={() => onChoose(one)}
        >
          <span className="block font-semibold">{text.repeats.titles[one]}</span>
          <span className="my-1 block text-[19px] font-semibold">{octets(figures[one].bytes)}</span>
          <span className="note mb-2 block">{figures[one].note}</span>
          <Bar share={figures[one].bytes / most} />
        </button>
      ))}
    </div>
  );
}

/** What of a kind may exist more than once, and has still to be read. */
function unreadOf({ candidates, unread }: Found, what: Reading): { number: number; bytes: number } {
  if (what === 'messages') return { number: candidates.unread.messages, bytes: candidates.unread.bytes };
  if (what === 'threads') return { number: unread.threads.messages, bytes: unread.threads.bytes };
  return { number: unread[what].files, bytes: unread[what].bytes };
}

/** What may exist more than once, and has still to be read. */
function Compare({ found, what }: { found: Found; what: Reading }) {
  const { octets } = useFigures();
  const compare = useChange<void>(
    () => '/repeats/compare',
    'POST',
    () => ({ what }),
    ['repeats'],
  );
  const proof = found.proofs.find((one) => one.what === what);
  const { number, bytes } = unreadOf(found, what);
  if (proof?.state === 'queued' || proof?.state === 'running')
    return (
      <section className="card" role="status">
        <p>
          {text.repeats.comparing(
            count(proof.done.messages),
            count(proof.total.messages),
            octets(proof.done.bytes),
            octets(proof.total.bytes),
          )}
        </p>
        <div className="mt-2">
          <Bar share={proof.total.bytes > 0 ? proof.done.bytes / proof.total.bytes : 0} />
        </div>
        {proof.problem && <p className="note mt-1">{proof.problem.detail}</p>}
      </section>
    );
  if (number === 0) return null;
  return (
    <section className="card flex flex-wrap items-center justify-between gap-3">
      <div className="min-w-0 flex-1 max-md:basis-full">
        <p className="font-semibold">{text.repeats.unread[what](number, count(number), octets(bytes))}</p>
        <p className="note">{text.repeats.unreadNote[what]}</p>
        {proof?.state === 'failed' && proof.problem && <p className="text-go">{proof.problem.detail}</p>}
        <Refused error={compare.error} />
      </div>
      <button
        type="button"
        className="button button-chief"
        disabled={compare.isPending}
        onClick={() => compare.mutate()}
      >
        {text.repeats.compare}
      </button>
    </section>
  );
}

/** Lots of copies that would take the last one. */
function Broken({ found }: { found: Found }) {
  const again = useChange<void>(
    () => '/repeats/again',
    'POST',
    () => ({}),
    REPEATS_STALE,
  );
  if (found.broken === 0) return null;
  return (
    <section className="card flex flex-wrap items-center justify-between gap-3 border-go" role="alert">
      <p className="min-w-0 flex-1">{text.repeats.broken(found.broken, count(found.broken))}</p>
      <button type="button" className="button" disabled={again.isPending} onClick={() => again.mutate()}>
        {text.repeats.again}
      </button>
      <Refused error={again.error} />
    </section>
  );
}

function HowSure({ found, what }: { found: Found; what: Reading }) {
  const { candidates } = found;
  return (
    <section className="card">
      <p>
        <strong>{text.repeats.sure}</strong> {text.repeats.sureNote[what]}{' '}
        {what === 'messages' &&
          candidates.different > 0 &&
          text.repeats.different(candidates.different, count(candidates.different))}
      </p>
    </section>
  );
}
