import { useForecast } from '../../ui/api/forecast';
import { Failed, Loading } from '../../ui/State';
import { text } from '../../ui/text';
import { CalendarFeed } from './CalendarFeed';
import { Changes } from './Changes';
import { Course } from './Course';
import { LessToCome } from './LessToCome';
import { ServerRules } from './ServerRules';
import { StandingLots } from './StandingLots';
import { WhatComesIn } from './WhatComesIn';

/** Keeps the mailbox from filling up again: when it will be full, and by what. */
export default function Upkeep() {
  const forecast = useForecast();
  if (forecast.error) return <Failed error={forecast.error} retry={() => void forecast.refetch()} />;
  if (!forecast.data) return <Loading />;
  const hasChanges = forecast.data.changes.length > 0;
  return (
    <>
      <h1 className="sr-only">{text.places.upkeep}</h1>
      <div className="grid grid-cols-[minmax(0,1fr)_330px] items-start gap-3.5 max-tank:flex max-tank:flex-col max-tank:items-stretch">
        <Course forecast={forecast.data} />
        {hasChanges ? <Changes forecast={forecast.data} /> : <WhatComesIn forecast={forecast.data} />}
      </div>
      <StandingLots />
      <LessToCome />
      <ServerRules />
      <div className="grid grid-cols-2 items-start gap-3.5 max-tank:grid-cols-1">
        {hasChanges && <WhatComesIn forecast={forecast.data} />}
        <CalendarFeed />
      </div>
    </>
  );
}
