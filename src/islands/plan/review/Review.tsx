import { gaugeOf } from '../../../core/level/gauge';
import { useLevel, useLots } from '../../../ui/api/account';
import { useFilePlan } from '../../../ui/api/spaces';
import { Failed, Loading } from '../../../ui/State';
import { text } from '../../../ui/text';
import { PlanTabs } from '../PlanTabs';
import { After } from './After';
import { CarryOut } from './CarryOut';
import { CarryOutFiles } from './CarryOutFiles';
import { FileLots } from './FileLots';
import { First } from './First';
import { LotTable } from './LotTable';

/** The plan, inspected and carried out. */
export default function Review() {
  const lots = useLots();
  const level = useLevel();
  const files = useFilePlan();
  if (lots.error) return <Failed error={lots.error} retry={() => void lots.refetch()} />;
  if (files.error) return <Failed error={files.error} retry={() => void files.refetch()} />;
  if (!lots.data || !files.data || !level.data) return <Loading />;
  const { lots: plan, total } = lots.data;
  return (
    <>
      <PlanTabs />
      {plan.length + files.data.lots.length === 0 ? (
        <section className="card">
          <h1 className="text-[15px]">{text.plan.tabs.review}</h1>
          <p className="mt-2">{text.review.empty}</p>
        </section>
      ) : (
        <>
          {plan.length > 0 ? (
            <LotTable lots={plan} total={total} of={gaugeOf(level.data).of} />
          ) : (
            <h1 className="sr-only">{text.plan.tabs.review}</h1>
          )}
          {files.data.lots.length > 0 && <FileLots plan={files.data} />}
          <div className="grid gap-[14px] lg:grid-cols-[minmax(0,1fr)_380px]">
            <div className="grid min-w-0 content-start gap-[14px]">
              {plan.length > 0 && <CarryOut lots={plan} />}
              {files.data.lots.length > 0 && <CarryOutFiles lots={files.data.lots} />}
              {plan.length > 0 && <First />}
            </div>
            <After level={level.data} />
          </div>
        </>
      )}
    </>
  );
}
