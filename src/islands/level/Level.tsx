import { useAccount, useChange, useFigures, useLevel, useScan } from '../../ui/api/account';
import type { Level as LevelData, Settings } from '../../ui/api/types';
import { Failed, Loading } from '../../ui/State';
import { text } from '../../ui/text';
import { count, percent } from '../../ui/text/format';
import { FolderTable } from './FolderTable';
import { LimitForm } from './LimitForm';

/** How full it is, of what, and where. */
export default function Level() {
  const level = useLevel();
  if (level.error) return <Failed error={level.error} retry={() => void level.refetch()} />;
  if (!level.data) return <Loading />;
  return (
    <>
      <h1 className="sr-only">{text.places.level}</h1>
      <Summary level={level.data} />
      {level.data.limit === null && <LimitForm />}
      <FolderTable level={level.data} />
    </>
  );
}

function Summary({ level }: { level: LevelData }) {
  const { octets } = useFigures();
  const scan = useScan().data;
  const counted = level.mail.bytes + level.trash.bytes;
  const otherNote =
    level.usedBy === 'counted'
      ? text.level.countedNote
      : level.difference < 0
        ? text.level.lessNote(octets(-level.difference))
        : level.other > 1024
          ? text.level.otherNote(octets(level.used), octets(counted))
          : text.level.equalNote;
  const messages = text.messages(level.mail.messages, count(level.mail.messages));
  const mailNote =
    level.messageLimit === undefined
      ? messages
      : `${messages}; ${text.level.messageQuota(count(level.messagesUsed ?? 0), count(level.messageLimit))}`;
  return (
    <section className="card grid gap-x-6 gap-y-4 sm:grid-cols-2 lg:grid-cols-4">
      <Figure name={text.level.mail} value={octets(level.mail.bytes)} note={mailNote} />
      <Figure
        name={text.level.trash}
        value={octets(level.trash.bytes)}
        note={text.level.trashNote(text.messages(level.trash.messages, count(level.trash.messages)))}
      />
      <Figure name={text.level.other} value={octets(level.other)} note={otherNote} />
      <TargetFigure level={level} />
      {scan && scan.state !== 'done' && <p className="note sm:col-span-2 lg:col-span-4">{text.level.filling}</p>}
    </section>
  );
}

function Figure({ name, value, note }: { name: string; value: string; note: string }) {
  return (
    <div>
      <h2 className="font-normal text-ink-2">{name}</h2>
      <p className="figure">{value}</p>
      <p className="note">{note}</p>
    </div>
  );
}

function TargetFigure({ level }: { level: LevelData }) {
  const { settings } = useAccount();
  const save = useChange<Settings['target']>(
    () => '/settings',
    'PATCH',
    (target) => ({ target }),
    ['level', 'settings'],
  );
  const share =
    'share' in settings.target
      ? Math.round(settings.target.share * 100)
      : Math.round(((level.targetBytes ?? 0) / (level.limit || 1)) * 100);
  return (
    <div>
      <label htmlFor="level-target" className="block text-ink-2">
        {text.level.target}
      </label>
      <span className="figure flex items-baseline gap-1">
        <input
          id="level-target"
          key={share}
          type="number"
          min={1}
          max={100}
          defaultValue={share}
          className="field plain-number w-12 px-1 py-0 text-right"
          onBlur={(event) =>
            event.target.value &&
            Number(event.target.value) !== share &&
            save.mutate({ share: Number(event.target.value) / 100 })
          }
          onKeyDown={(event) => event.key === 'Enter' && event.currentTarget.blur()}
        />
        {text.level.percent}
      </span>
      <p className="note">
        {level.limit !== null && `${percent(level.used / level.limit)} → `}
        {text.level.targetNote}
      </p>
      {save.error && <p className="text-go">{save.error.message}</p>}
    </div>
  );
}
