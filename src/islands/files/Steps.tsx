import { useBags } from '../../ui/api/archive';
import { useUploads } from '../../ui/api/spaces';
import { text } from '../../ui/text';
import { BagSteps } from './BagSteps';
import { UploadSteps } from './UploadSteps';

/** Sets of files that are shown: the newest. */
const SHOWN = 20;

/** What becomes of files that were saved, or put into a file space. */
export function Steps() {
  const bags = (useBags().data?.bags ?? []).filter(({ state }) => state !== 'erased' && state !== 'cancelled');
  const uploads = (useUploads().data ?? []).filter(({ state, done }) => state !== 'cancelled' || done.files > 0);
  const sets = [
    ...bags.map((bag) => ({ at: bag.createdAt, drawn: <BagSteps key={`bag ${bag.id}`} bag={bag} /> })),
    ...uploads.map((upload) => ({
      at: upload.createdAt,
      drawn: <UploadSteps key={`upload ${upload.id}`} upload={upload} />,
    })),
  ].sort((a, b) => (a.at < b.at ? 1 : -1));
  if (sets.length === 0) return null;
  return (
    <section aria-label={text.files.steps} className="card grid max-h-[42%] shrink-0 gap-3 overflow-y-auto">
      {sets.slice(0, SHOWN).map(({ drawn }) => drawn)}
    </section>
  );
}
