import { useState } from 'react';
import type { Level as LevelData, Settings } from '../../contract/types';
import { gaugeOf } from '../../core/level/gauge';
import { QUOTA_UNIT } from '../../core/space/share';
import { OCTETS_IN } from '../../core/units';
import { useAccount, useChange, useFigures, useLevel } from '../../ui/api/account';
import { useArchive } from '../../ui/api/archive';
import { useSpaces } from '../../ui/api/spaces';
import { Readings } from '../../ui/charts/Readings';
import { useMeasured } from '../../ui/columns/useMeasured';
import { RolesForm } from '../../ui/level/RolesForm';
import { Link } from '../../ui/route';
import { Failed, Loading } from '../../ui/State';
import { FirstRanking } from '../../ui/scan/FirstRanking';
import { text } from '../../ui/text';
import { count, percent } from '../../ui/text/format';
import { Curve } from './Curve';
import { FolderTable } from './FolderTable';
import { LimitForm } from './LimitForm';
import { MadeOf } from './MadeOf';
import { Matrix } from './Matrix';
import { FileSpaces } from './space/FileSpaces';
import { SpaceFolders, SpaceKinds } from './space/SpaceTables';
import { Warnings } from './Warnings';
import { Ways } from './Ways';

/** How full it is, of what, and where. */
export default function Level() {
  const level = useLevel();
  if (level.error) return <Failed error={level.error} retry={() => void level.refetch()} />;
  if (!level.data) return <Loading />;
  return (
    <>
      <h1 className="sr-only">{text.places.level}</h1>
      <Summary level={level.data} />
      {level.data.folders.some(({ roleBy }) => roleBy === 'name') && (
        <section className="card">
          <RolesForm level={level.data} />
        </section>
      )}
      <FileSpaces level={level.data} />
      <Warnings />
      <FirstRanking limit={8} />
      {level.data.limit === null && <LimitForm />}
      {level.data.roots.length > 0 && <Roots roots={level.data.roots} />}
      <Whole level={level.data} />
    </>
  );
}

/** The parts that the host limits apart: what it says of each beside what we count there. */
function Roots({ roots }: { roots: LevelData['roots'] }) {
  const { octets } = useFigures();
  return (
    <section className="card">
      <h2 className="mb-1">{text.level.rootsTitle}</h2>
      <ul className="grid gap-1">
        {roots.map(({ name, used, limit, counted }) => (
          <li key={name}>
            <strong>{name}</strong>{' '}
            {text.level.root(
              used === null ? '–' : octets(used),
              limit === null ? '–' : octets(limit),
              octets(counted.bytes),
              octets(Math.max(0, (used ?? counted.bytes) - counted.bytes)),
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** Where the space is and what it would take; what is computed from the columns follows when they are there. */
function Whole({ level }: { level: LevelData }) {
  const { data: measured, error } = useMeasured(level);
  const spaces = useSpaces().data ?? [];
  return (
    <>
      <div className="grid grid-cols-1 items-start gap-[14px] xl:grid-cols-2">
        <div className="grid grid-cols-1 gap-[14px]">
          <FolderTable level={level} />
          {spaces.map((space) => (
            <SpaceFolders key={space.id} space={space} />
          ))}
        </div>
        <div className="grid grid-cols-1 gap-[14px]">
          {error && (
            <p role="alert" className="card text-go">
              {error.message}
            </p>
          )}
          {measured && <Matrix measured={measured} />}
          {measured && <Curve measured={measured} />}
          {measured && <MadeOf measured={measured} />}
          {!measured && !error && <Loading />}
          {spaces.map((space) => (
            <SpaceKinds key={space.id} space={space} />
          ))}
        </div>
      </div>
      {measured && <Ways level={level} measured={measured} />}
      {level.readings.length > 1 && <Readings title={text.level.history} />}
    </>
  );
}

/** What lies outside the mailbox and does not count; said aloud where some of it is damaged. */
function Archived() {
  const archive = useArchive().data;
  const { octets } = useFigures();
  if (!archive || archive.messages + archive.files.files === 0) return null;
  const { messages, files, damaged } = archive;
  const what = [
    ...(messages > 0 ? [text.messages(messages, count(messages))] : []),
    ...(files.files > 0 ? [text.archive.files(files.files, count(files.files))] : []),
  ].join(', ');
  return (
    <p className="note sm:col-span-2 lg:col-span-4">
      {text.level.archived(what, octets(archive.bytes + files.bytes))}
      {damaged.files > 0 && (
        <Link to="/archive" className="block text-go">
          {text.level.archiveDamaged(damaged.files, count(damaged.files))}
        </Link>
      )}
    </p>
  );
}

function Summary({ level }: { level: LevelData }) {
  const { octets } = useFigures();
  const counted = level.mail.bytes + level.trash.bytes;
  const otherNote =
    level.usedBy === 'counted'
      ? text.level.countedNote
      : level.difference < 0
        ? level.once !== undefined && Math.abs(level.used - level.once) <= QUOTA_UNIT
          ? text.level.once(octets(level.once))
          : text.level.lessNote(octets(-level.difference))
        : level.space && level.other > QUOTA_UNIT
          ? text.level.filesNote(octets(level.space.files.bytes), octets(level.space.pictures.bytes))
          : level.other > QUOTA_UNIT
            ? text.level.otherNote(octets(level.used), octets(counted))
            : text.level.equalNote;
  const messages = text.messages(level.mail.messages, count(level.mail.messages));
  const mailNote =
    level.messageLimit === undefined
      ? messages
      : `${messages}; ${text.level.messageQuota(count(level.messagesUsed ?? 0), count(level.messageLimit))}`;
  return (
    <section className="card grid grid-cols-1 gap-x-6 gap-y-4 sm:grid-cols-2 lg:grid-cols-4">
      <Figure name={text.level.mail} value={octets(level.mail.bytes)} note={mailNote} />
      <Figure
        name={text.level.trash}
        value={octets(level.trash.bytes)}
        note={text.level.trashNote(text.messages(level.trash.messages, count(level.trash.messages)))}
      />
      <Figure name={text.level.other} value={octets(level.other)} note={otherNote} />
      <TargetFigure level={level} />
      <Archived />
      {level.unread > 0 && <p className="note sm:col-span-2 lg:col-span-4">{text.level.filling}</p>}
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

const KINDS = ['share', 'bytes', 'messages'] as const;
type Kind = (typeof KINDS)[number];

/** The target: a share of the limit, octets, or a number of messages where the host limits that. */
function TargetFigure({ level }: { level: LevelData }) {
  const { settings } = useAccount();
  const { target, units } = settings;
  const unit = units === 'binary' ? 'GiB' : 'GB';
  const [kind, setKind] = useState<Kind>('share' in target ? 'share' : 'bytes' in target ? 'bytes' : 'messages');
  const save = useChange<Settings['target']>(
    () => '/settings',
    'PATCH',
    (changed) => ({ target: changed }),
    ['level', 'settings'],
  );
  const gauge = gaugeOf(level);
  const usedMessages = level.messagesUsed ?? level.mail.messages + level.trash.messages;
  const shown = {
    share: Math.round('share' in target ? target.share * 100 : ((gauge.target ?? 0) / (gauge.limit || 1)) * 100),
    bytes: Number(((level.targetBytes ?? level.used) / OCTETS_IN[unit]).toFixed(2)),
    messages: 'messages' in target ? target.messages : usedMessages,
  }[kind];
  const targetOf = (number: number): Settings['target'] =>
    kind === 'share'
      ? { share: Math.min(1, number / 100) }
      : kind === 'bytes'
        ? { bytes: Math.round(number * OCTETS_IN[unit]) }
        : { messages: Math.round(number) };
  return (
    <div>
      <label htmlFor="level-target" className="block text-ink-2">
        {text.level.target}
      </label>
      <span className="figure flex items-baseline gap-1">
        <input
          id="level-target"
          key={`${kind} ${shown}`}
          type="number"
          min={kind === 'share' ? 1 : 0}
          step={kind === 'bytes' ? 0.01 : 1}
          {...(kind === 'share' ? { max: 100 } : {})}
          defaultValue={shown}
          className="field appearance-[textfield] [&::-webkit-inner-spin-button]:appearance-none w-20 px-1 py-0 text-right"
          onBlur={(event) =>
            event.target.value &&
            Number(event.target.value) !== shown &&
            save.mutate(targetOf(Number(event.target.value)))
          }
          onKeyDown={(event) => event.key === 'Enter' && event.currentTarget.blur()}
        />
        <select
          aria-label={text.level.targetKind}
          className="field px-1 py-0.5 text-[13px] font-normal"
          value={kind}
          onChange={(event) => setKind(event.target.value as Kind)}
        >
          <option value="share">{text.level.percent}</option>
          <option value="bytes">{unit}</option>
          <option value="messages">{text.level.targetMessages}</option>
        </select>
      </span>
      <p className="note">
        {gauge.limit !== null && kind === 'share' && `${percent(gauge.used / gauge.limit)} → `}
        {text.level.targetNote}
      </p>
      <Thresholds thresholds={settings.thresholds} />
      {save.error && <p className="text-go">{save.error.message}</p>}
    </div>
  );
}

/** The host's own lines, where the user stated them. */
function Thresholds({ thresholds }: { thresholds: Settings['thresholds'] }) {
  const said = (['warning', 'sending', 'receiving'] as const).flatMap((name) => {
    const share = thresholds[name];
    return share === undefined ? [] : [text.level.thresholdAt(text.level.thresholds[name], percent(share))];
  });
  return said.length > 0 ? <p className="note">{said.join('; ')}</p> : null;
}
