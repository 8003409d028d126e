import { useState } from 'react';
import type { PictureSeries, Repeats, SpacePictureSeries } from '../../contract/types';
import { useAccount, useChange, useFigures } from '../../ui/api/account';
import { REPEATS_STALE, usePictureSeries, useSpacePictureSeries } from '../../ui/api/repeats';
import { Failed, Loading, Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count, percent } from '../../ui/text/format';
import { More } from './More';

/** A picture of a series, in a message or in a file space. */
interface Picture {
  file: number;
  name: string;
  size: number;
  width: number;
  height: number;
  sharpness: number;
  guarded: boolean;
}

/** A series, wherever its pictures lie. */
interface Shown {
  best: number;
  why: PictureSeries['why'];
  pictures: readonly Picture[];
  title: string;
  /** What is known of it besides: a subject, or a folder. */
  about: string;
  /** Where a picture of a picture is asked for. */
  preview(file: number): string;
  /** Where its lots are made, and what such a lot is called. */
  lots: string;
  label: string;
  /** What the button says. */
  act(pictures: number, bytes: string): string;
}

/** Series of pictures nearly alike. Nothing of them is marked that was not looked at. */
export function Pictures({ found }: { found: Repeats }) {
  const { octets } = useFigures();
  const series = usePictureSeries();
  const inSpaces = useSpacePictureSeries();
  const shownSeries = useShown();
  const error = series.error ?? inSpaces.error;
  if (error) return <Failed error={error} retry={() => void Promise.all([series.refetch(), inSpaces.refetch()])} />;
  if (!series.data || !inSpaces.data) return <Loading />;
  const list = [
    ...series.data.pages.flatMap((page) => page.series.map(shownSeries.inMail)),
    ...inSpaces.data.pages.flatMap((page) => page.series.map(shownSeries.inSpace)),
  ];
  const { beside } = found.pictures;
  return (
    <>
      <section className="card">
        <h2>
          <strong>
            {text.repeats.picturesTitle(
              found.pictures.series,
              count(found.pictures.series),
              count(beside.files),
              octets(beside.bytes),
            )}
          </strong>{' '}
          <span className="text-ink-2">{text.repeats.lookFirst}</span>
        </h2>
        {list.length === 0 && (
          <p className="note">
            {found.unread.pictures.files === 0 ? text.repeats.noPictures : text.repeats.noPicturesYet}
          </p>
        )}
      </section>
      {list.map((one, index) => (
        <Series key={`${one.lots} ${one.best}`} number={index + 1} series={one} />
      ))}
      <More list={series} />
      <More list={inSpaces} />
    </>
  );
}

/** Series in messages and in file spaces, shown alike. */
function useShown() {
  const { day } = useFigures();
  return {
    inMail({ best, why, pictures }: PictureSeries): Shown {
      const first = pictures[0];
      const on = first?.date ? day(first.date) : '';
      const who = first?.from?.name || first?.from?.address || text.sift.noSender;
      return {
        ...{ best, why, pictures },
        title: text.repeats.seriesTitle(count(pictures.length), who, on),
        about: first?.subject ?? '',
        preview: (file) => `/files/${file}/preview`,
        lots: '/repeats/pictures/lots',
        label: text.repeats.pictureLot(on),
        act: text.repeats.stripPictures,
      };
    },
    inSpace({ best, why, pictures }: SpacePictureSeries): Shown {
      const first = pictures[0];
      const on = first ? day(first.modified) : '';
      const folder = first?.path.slice(0, first.path.lastIndexOf('/') + 1).replace(/\/$/, '') ?? '';
      return {
        ...{ best, why, pictures: pictures.map((picture) => ({ ...picture, guarded: false })) },
        title: text.repeats.spaceSeriesTitle(count(pictures.length), on),
        about: folder || text.space.all,
        preview: (file) => `/space-files/${file}/preview`,
        lots: '/repeats/space-pictures/lots',
        label: text.repeats.pictureLot(folder || on),
        act: text.repeats.trashPictures,
      };
    },
  };
}

function Series({ number, series }: { number: number; series: Shown }) {
  const { best, why, pictures, title, about } = series;
  const { octets } = useFigures();
  const [isOpen, setOpen] = useState(false);
  const [seen, setSeen] = useState<ReadonlySet<number>>(new Set());
  // What somebody chose; of all else the proposal holds, also of pictures that are found to belong to the series later.
  const [chosenSo, setChosenSo] = useState<ReadonlyMap<number, boolean>>(new Map());
  const goes = ({ file, guarded }: Picture) => !guarded && (chosenSo.get(file) ?? file !== best);
  // What could not be shown was not looked at.
  const chosen = pictures.filter((picture) => goes(picture) && seen.has(picture.file));
  const mark = useChange<void>(
    () => series.lots,
    'POST',
    () => ({
      files: chosen.map(({ file }) => file),
      label: series.label,
    }),
    REPEATS_STALE,
  );
  const beside = pictures.reduce((sum, { file, size }) => sum + (file === best ? 0 : size), 0);
  return (
    <section className="card" aria-label={`${number}. ${title}`}>
      <div className="flex flex-wrap items-center justify-between gap-2">
        <h3 className="min-w-0 flex-1 truncate max-md:basis-full" title={about}>
          <strong>{title}</strong>{' '}
          <span className="text-ink-2">
            {about} · {text.repeats.upTo(octets(beside))}
          </span>
        </h3>
        {isOpen && chosen.length > 0 && (
          <button type="button" className="button button-chief" disabled={mark.isPending} onClick={() => mark.mutate()}>
            {series.act(chosen.length, octets(chosen.reduce((sum, { size }) => sum + size, 0)))}
          </button>
        )}
        <button type="button" className="button" aria-expanded={isOpen} onClick={() => setOpen(!isOpen)}>
          {isOpen ? text.repeats.closeSeries : text.repeats.openSeries}
        </button>
      </div>
      <Refused error={mark.error} />
      {isOpen && (
        <ul className="mt-2 grid grid-cols-[repeat(auto-fill,minmax(min(100%,300px),1fr))] gap-3">
          {pictures.map((picture) => (
            <OnePicture
              key={picture.file}
              picture={picture}
              preview={series.preview(picture.file)}
              why={picture.file === best ? text.repeats.best[why] : undefined}
              goes={goes(picture)}
              onSeen={() => setSeen((before) => new Set(before).add(picture.file))}
              onChoose={(out) => setChosenSo((before) => new Map(before).set(picture.file, out))}
            />
          ))}
        </ul>
      )}
    </section>
  );
}

function OnePicture({
  picture: { name, size, width, height, sharpness, guarded },
  preview,
  why,
  goes,
  onSeen,
  onChoose,
}: {
  picture: Picture;
  preview: string;
  why: string | undefined;
  goes: boolean;
  onSeen(): void;
  onChoose(goes: boolean): void;
}) {
  const { octets } = useFigures();
  const { base } = useAccount();
  const [isBroken, setBroken] = useState(false);
  return (
    <li className={`rounded border p-2 ${goes ? 'border-line' : 'border-water'}`}>
      {isBroken ? (
        <p className="note flex h-52 items-center justify-center">{text.repeats.notShown}</p>
      ) : (
        <img
          src={`/api${base}${preview}?size=large`}
          alt={text.files.pictureOf(name || text.files.noName)}
          className={`h-52 w-full bg-hair object-contain`}
          onLoad={onSeen}
          onError={() => setBroken(true)}
        />
      )}
      <p className="mt-1 flex items-baseline justify-between gap-2">
        <span className="truncate" title={name}>
          {name || text.files.noName}
        </span>
        <span className="note whitespace-nowrap">{octets(size)}</span>
      </p>
      <p className="note">{text.repeats.pictureFacts(width, height, percent(sharpness))}</p>
      <div className="mt-1 flex flex-wrap items-center gap-x-4">
        {guarded ? (
          <span className="note">{text.repeats.states.guarded}</span>
        ) : (
          ([false, true] as const).map((out) => (
            <label key={`${out}`} className="flex items-center gap-1">
              <input
                type="radio"
                name={`picture-${preview}`}
                checked={goes === out}
                disabled={out && isBroken}
                onChange={() => onChoose(out)}
              />
              {out ? text.repeats.goesOut : text.repeats.staysIn}
            </label>
          ))
        )}
        {why && <strong className="text-water">{why}</strong>}
      </div>
    </li>
  );
}
