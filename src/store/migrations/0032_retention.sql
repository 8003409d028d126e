-- Retention export: every night what is new is saved into a bag under a hold, and nothing is deleted.

create table retention (
  account  bigint primary key references account on delete cascade,
  -- How far back mail is saved, and for how long from the night on that it was saved.
  years    int not null check (years between 1 and 100),
  reason   text not null,
  begun_at timestamptz not null default now(),
  next_at  timestamptz not null default now(),
  -- When all that was there was last saved.
  last_at  timestamptz,
  -- The scan that is waited for before what is new is told.
  scan     int,
  problem  jsonb
);
create index retention_due on retention (next_at);

-- Made by the retention export: it is held once it was read back.
alter table bag add column journal boolean not null default false;
create index bag_journal on bag (account) where journal;
