-- Standing lots: criteria, a fate and a rhythm. At each date what matches is frozen into a lot of its own and carried out.

alter table account add column next_standing int not null default 1;

create table standing_lot (
  account  bigint not null references account on delete cascade,
  id       int not null,
  label    text not null,
  criteria text not null,
  fate     text not null check (fate in ('trash', 'archive', 'strip')),
  -- core/rhythm.
  rhythm   jsonb not null,
  -- `draft`: it does not go by itself yet. `on`: it does. `off`: a person stopped it. `stopped`: it stopped itself.
  state    text not null default 'draft' check (state in ('draft', 'on', 'off', 'stopped')),
  -- What it would have taken in the past (core/standing); null before it was tried.
  trial    jsonb,
  tried_at timestamptz,
  -- More than so many messages at one date, and it asks first; null where the person named no number.
  most     int check (most >= 0),
  -- What it brought to the trash is purged after so many days; null: never by itself.
  purge_after_days int check (purge_after_days between 0 and 3650),
  -- Whether a mail tells what it did.
  mail     boolean not null default false,
  -- The date that comes next, and when that is.
  next_on  date,
  next_at  timestamptz,
  -- When a person last let it go by itself: its next date is the first, which takes all that has gathered.
  started_at timestamptz,
  -- Dates in a row that failed.
  failures int not null default 0,
  created_at timestamptz not null default now(),
  primary key (account, id)
);
create index standing_lot_due on standing_lot (next_at) where state = 'on';

-- One date of a standing lot: what became of it. Its key is what keeps a date from being done twice.
create table standing_date (
  account  bigint not null,
  standing int not null,
  day      date not null,
  state    text not null check (state in ('scanning', 'saving', 'asking', 'running', 'done', 'nothing', 'failed', 'declined')),
  -- It is looked at again from then on.
  not_before timestamptz not null,
  scan     int,
  lot      int,
  -- Where files are saved before they are taken out.
  bag      int,
  run      int,
  messages int not null default 0,
  bytes    bigint not null default 0,
  -- More than this, and it asks first.
  ceiling  int,
  problem  jsonb,
  ended_at timestamptz,
  -- The run that purged what it had brought to the trash; and when that was looked after, also where nothing was left to purge.
  purge    int,
  purged_at timestamptz,
  primary key (account, standing, day),
  foreign key (account, standing) references standing_lot on delete cascade
);
create index standing_date_open on standing_date (not_before) where state in ('scanning', 'saving', 'asking', 'running');
create index standing_date_unpurged on standing_date (ended_at) where state = 'done' and purged_at is null;

