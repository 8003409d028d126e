-- A habit: a note by mail when the level passes a threshold, or once a month; and a feed of the dates on which something runs.

create table habit (
  account   bigint primary key references account on delete cascade,
  -- The newest reading that was looked at, and whether the level was above the threshold then.
  looked_at timestamptz,
  above     boolean not null default false,
  -- When the next monthly note is due, and the scan that it waits for.
  next_at   timestamptz,
  scan      int
);

-- The address of a feed is its only key, so only the hash of it is kept.
create table calendar_feed (
  account     bigint primary key references account on delete cascade,
  secret_hash bytea not null unique,
  made_at     timestamptz not null default now()
);
