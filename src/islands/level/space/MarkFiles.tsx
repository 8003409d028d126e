import type { FileLot, Space } from '../../../contract/types';
import { OF_THE_PLAN, useChange } from '../../../ui/api/account';
import { useFilePlan } from '../../../ui/api/spaces';
import { Refused } from '../../../ui/State';
import { text } from '../../../ui/text';

/** Marks a folder of a file space with all below it, or a file, for its trash. */
export function MarkFiles({
  space,
  path,
  named,
}: {
  space: Space;
  path: string;
  named: { folder: string } | { ids: number[] };
}) {
  const mark = useChange<void, FileLot>(
    () => `/spaces/${space.id}/lots`,
    'POST',
    () => ({ label: path.slice(-200), ...named }),
    OF_THE_PLAN,
  );
  // Until it is removed from the plan.
  const isMarked = useFilePlan().data?.lots.some(({ id }) => id === mark.data?.id);
  if (isMarked) return <span className="note">{text.space.marked}</span>;
  return (
    <>
      <button
        type="button"
        className="link"
        disabled={mark.isPending}
        aria-label={'folder' in named ? text.space.markFolder(path) : text.space.markFile(path)}
        onClick={() => mark.mutate()}
      >
        {text.space.mark}
      </button>
      <Refused error={mark.error} />
    </>
  );
}
