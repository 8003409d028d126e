import { parseCriteria } from '../../core/criteria/parse';
import { useLevel } from '../../ui/api/account';
import { CriteriaField } from '../../ui/criteria/CriteriaField';
import { go, useRoute, withState } from '../../ui/route';
import { text } from '../../ui/text';
import { Contents } from './Contents';
import { EmptyFolder } from './EmptyFolder';
import { Groups } from './Groups';
import { PurgeTrash } from './PurgeTrash';
import { SpaceTrashes } from './SpaceTrash';
import { useTrash } from './useTrash';

/** What lies in the trash and still counts: by what brought it there, searched, taken back, purged. */
export default function Trash() {
  const route = useRoute();
  const where = route.search.get('where') ?? '';
  const level = useLevel().data;
  const trash = useTrash().data;
  return (
    <>
      <h1 className="sr-only">{text.places.trash}</h1>
      {level && trash && (
        <div className="grid gap-[14px] lg:grid-cols-[minmax(0,1.6fr)_minmax(0,1fr)]">
          <Groups trash={trash} level={level} />
          <div className="grid content-start gap-[14px]">
            <PurgeTrash level={level} trash={trash} />
            <EmptyFolder level={level} />
          </div>
        </div>
      )}
      <SpaceTrashes />
      <div className="flex">
        <CriteriaField
          value={where}
          placeholder={text.trash.placeholder}
          onChange={(next) => go(withState(route, { where: next }))}
        />
      </div>
      {parseCriteria(where).ok && <Contents key={where} where={where} days={trash?.days ?? null} />}
    </>
  );
}
