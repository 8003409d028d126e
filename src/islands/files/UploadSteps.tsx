import { useState } from 'react';
import type { Lot, Upload } from '../../contract/types';
import { OF_THE_PLAN, useChange, useFigures } from '../../ui/api/account';
import { Bar } from '../../ui/Bar';
import { Link } from '../../ui/route';
import { Refused } from '../../ui/State';
import { text } from '../../ui/text';
import { count } from '../../ui/text/format';
import { useSteering } from './Steering';
import { Step } from './Step';

/** What becomes of files that are put into a file space: they are put there and read back, and then taken out of the mail. */
export function UploadSteps({ upload }: { upload: Upload }) {
  const { octets } = useFigures();
  const { going, links, refused } = useSteering(`/uploads/${upload.id}`, 'uploads', upload.state);
  const plan = useChange<void, Lot>(
    () => `/uploads/${upload.id}/lots`,
    'POST',
    () => ({ label: text.upload.lot(upload.label).slice(0, 200) }),
    OF_THE_PLAN,
  );
  const [planned, setPlanned] = useState<Lot>();
  const { asked, done, had, problem } = upload;
  const left = upload.left.filter(({ reason }) => reason !== 'cancelled');
  return (
    <article className="grid gap-2">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <h2 className="font-semibold wrap-anywhere">{text.upload.title(upload.id, upload.label)}</h2>
        <span className="note wrap-anywhere">
          {text.files.asked.files(asked.files, count(asked.files), octets(asked.bytes))}
        </span>
        <span className="ml-auto flex gap-3">{links}</span>
      </div>
      {going && <Bar share={done.files / Math.max(1, asked.files)} />}
      {problem && <p className="text-go">{problem.detail}</p>}
      <ol className="grid grid-cols-2 gap-4 max-md:grid-cols-1">
        <Step number={1} name={text.upload.put} note={text.upload.putNote(upload.folder)}>
          <strong>{text.upload.there(count(done.files), count(asked.files), octets(done.bytes))}</strong>
          {had.files > 0 && <span className="block">{text.upload.had(had.files, count(had.files))}</span>}
          {left.map(({ reason, files }) => (
            <span key={reason} className="block text-go">
              {text.upload.left[reason]?.(count(files)) ?? `${count(files)} ${reason}`}
            </span>
          ))}
        </Step>
        <Step number={2} name={text.files.strip} note={text.files.stripNote}>
          {planned ? (
            <Link className="link" to="/review">
              {text.files.inPlan(octets(planned.bytes))}
            </Link>
          ) : (
            <button
              type="button"
              className="button"
              disabled={going || done.files === 0 || plan.isPending}
              onClick={() => plan.mutate(undefined, { onSuccess: setPlanned })}
            >
              {text.files.addToPlan(done.files, count(done.files))}
            </button>
          )}
          <Refused error={plan.error} />
        </Step>
      </ol>
      {refused}
    </article>
  );
}
