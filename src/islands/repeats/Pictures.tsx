import { useState } from 'react';
import type { Lot, PictureSeries, Repeats } from '../../contract/types';
import { useAccount, useChange, useFigures } from '../../ui/api/account';
import { REPEATS_STALE, usePictureSeries } from '../../ui/api/repeats';
import { Failed, Loading, Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count, percent } from '../../ui/text/format';
import { More } from './More';

type Picture = PictureSeries['pictures'][number];

/** Series of pictures nearly alike. Nothing of them is marked that was not looked at. */
export function Pictures({ found }: { found: Repeats }) {
  const { octets } = useFigures();
  const series = usePictureSeries();
  if (series.error) return <Failed error={series.error} retry={() => void series.refetch()} />;
  if (!series.data) return <Loading />;
  const list = series.data.pages.flatMap((page) => page.series);
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
        <Series key={one.best} number={index + 1} series={one} />
      ))}
      <More list={series} />
    </>
  );
}

function Series({ number, series: { best, why, pictures } }: { number: number; series: PictureSeries }) {
  const { octets, day } = useFigures();
  const [isOpen, setOpen] = useState(false);
  const [seen, setSeen] = useState<ReadonlySet<number>>(new Set());
  // What somebody chose; of all else the proposal holds, also of pictures that are found to belong to the series later.
  const [chosenSo, setChosenSo] = useState<ReadonlyMap<number, boolean>>(new Map());
  const goes = ({ file, guarded }: Picture) => !guarded && (chosenSo.get(file) ?? file !== best);
  // What could not be shown was not looked at.
  const chosen = pictures.filter((picture) => goes(picture) && seen.has(picture.file));
  const first = pictures[0];
  const mark = useChange<void, Lot>(
    () => '/repeats/pictures/lots',
    'POST',
    () => ({
      files: chosen.map(({ file }) => file),
      label: text.repeats.pictureLot(first?.date ? day(first.date) : ''),
    }),
    REPEATS_STALE,
  );
  const who = first?.from?.name || first?.from?.address || text.sift.noSender;
  const title = text.repeats.seriesTitle(count(pictures.length), who, first?.date ? day(first.date) : '');
  const beside = pictures.reduce((sum, { file, size }) => sum + (file === best ? 0 : size), 0);
  return (
    <section className="card" aria-label={`${number}. ${title}`}>
      <div className="flex flex-wrap items-center justify-between gap-2">
        <h3 className="min-w-0 flex-1 truncate max-md:basis-full" title={first?.subject}>
          <strong>{title}</strong>{' '}
          <span className="text-ink-2">
            {first?.subject} · {text.repeats.upTo(octets(beside))}
          </span>
        </h3>
        {isOpen && chosen.length > 0 && (
          <button type="button" className="button button-chief" disabled={mark.isPending} onClick={() => mark.mutate()}>
            {text.repeats.stripPictures(chosen.length, octets(chosen.reduce((sum, { size }) => sum + size, 0)))}
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
  picture: { file, name, size, width, height, sharpness, guarded },
  why,
  goes,
  onSeen,
  onChoose,
}: {
  picture: Picture;
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
          src={`/api${base}/files/${file}/preview?size=large`}
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
                name={`picture-${file}`}
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
