import { parseCriteria } from '../../core/criteria/parse';
import { useArchive, useKeptBags } from '../../ui/api/archive';
import { CriteriaField } from '../../ui/criteria/CriteriaField';
import { go, useRoute, withState } from '../../ui/route';
import { Failed, Loading } from '../../ui/State';
import { text } from '../../ui/text';
import { ArchivedList } from './ArchivedList';
import { BagTable } from './BagTable';
import { HowSafe } from './HowSafe';

/** What lies outside the mailbox: its bags, how safe they are, one search over all of them, and the way back. */
export default function Archive() {
  const route = useRoute();
  const where = route.search.get('where') ?? '';
  const archive = useArchive();
  const { bags, error, refetch } = useKeptBags();
  const failed = archive.error ?? error;
  if (failed) return <Failed error={failed} retry={() => void Promise.all([archive.refetch(), refetch()])} />;
  if (!archive.data || !bags) return <Loading />;
  return (
    <>
      <h1 className="sr-only">{text.places.archive}</h1>
      <BagTable archive={archive.data} bags={bags} />
      {archive.data.messages > 0 && (
        <>
          <div className="flex">
            <CriteriaField
              value={where}
              placeholder={text.archive.placeholder}
              onChange={(next) => go(withState(route, { where: next }))}
            />
          </div>
          <div className="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_300px] gap-3.5 max-tank:flex max-tank:flex-col">
            {parseCriteria(where).ok && <ArchivedList key={where} where={where} archive={archive.data} />}
            <HowSafe archive={archive.data} bags={bags} />
          </div>
        </>
      )}
      {archive.data.messages === 0 && <HowSafe archive={archive.data} bags={bags} />}
    </>
  );
}
