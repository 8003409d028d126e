-- Work that must survive the process that does it, and what it did.

-- The lease: a job belongs to a worker until lease_until, which the worker keeps moving. The queue only wakes.
create table job (
  account     bigint not null references account on delete cascade,
  id          bigint generated always as identity,
  kind        text not null check (kind in ('scan', 'run')),
  -- The number of the scan or run.
  subject     int not null,
  worker      uuid,
  lease_until timestamptz,
  not_before  timestamptz not null default now(),
  -- Lets the oldest work of an account go first, and one that was begun before any other.
  begun_at    timestamptz,
  done_at     timestamptz,
  primary key (account, id)
);

create unique index job_open on job (account, kind, subject) where done_at is null;
create index job_waiting on job (id) where done_at is null;

create table scan (
  account        bigint not null references account on delete cascade,
  id             int not null,
  state          text not null default 'queued' check (state in ('queued', 'running', 'done', 'failed')),
  folders_done   int not null default 0,
  folders_total  int not null default 0,
  messages_done  int not null default 0,
  messages_total int not null default 0,
  attempts       int not null default 0,
  problem        jsonb,
  created_at     timestamptz not null default now(),
  ended_at       timestamptz,
  primary key (account, id)
);

-- A set of messages marked for one fate, frozen as placement ids when it was marked.
create table lot (
  account    bigint not null references account on delete cascade,
  id         int not null,
  label      text not null,
  fate       text not null check (fate in ('trash', 'purge')),
  -- The criteria it came from; null where single messages were marked.
  criteria   text,
  members    int8multirange not null,
  excepted   int8multirange not null default '{}',
  -- The run that took it up; null while it is in the plan.
  run        int,
  created_at timestamptz not null default now(),
  primary key (account, id)
);

create table run (
  account        bigint not null references account on delete cascade,
  id             int not null,
  action         text not null check (action in ('trash', 'purge', 'restore')),
  state          text not null default 'queued'
                 check (state in ('queued', 'running', 'paused', 'done', 'cancelled', 'failed')),
  label          text not null,
  -- How the set was named: {"lots": [1, 2]}, {"where": "..."}, {"ids": 3}, {"folder": "Junk"}, {"run": 4}.
  selector       jsonb not null,
  -- Exactly what is to be touched, frozen when it was asked for.
  members        int8multirange not null,
  -- Where a restore goes when the origin is unknown.
  fallback       int,
  asked_messages int not null,
  asked_bytes    bigint not null,
  done_messages  int not null default 0,
  done_bytes     bigint not null default 0,
  -- What the user wants next: pause or cancel, looked at between two batches.
  wanted         text check (wanted in ('pause', 'cancel')),
  attempts       int not null default 0,
  before_level   jsonb,
  after_level    jsonb,
  problem        jsonb,
  created_at     timestamptz not null default now(),
  started_at     timestamptz,
  ended_at       timestamptz,
  primary key (account, id)
);

-- One command's worth of a run. Written before the command is sent, closed when its effect is known.
create table run_batch (
  account       bigint not null,
  run           int not null,
  seq           int not null,
  -- Source: the folder's generation, with the placements and their UIDs in the same order.
  generation    int not null,
  members       int8multirange not null,
  -- Destination folder; null for a purge.
  destination   int,
  state         text not null default 'planned' check (state in ('planned', 'sent', 'done')),
  -- UIDVALIDITY and UIDNEXT of the destination before the command: what it brought has a UID from there on.
  destination_validity bigint,
  destination_uid_next bigint,
  done_members  int8multirange not null default '{}',
  primary key (account, run, seq),
  foreign key (account, run) references run on delete cascade
);

create table run_left (
  account  bigint not null,
  run      int not null,
  reason   text not null check (reason in ('guarded', 'held', 'vanished', 'moved', 'changed', 'no-room', 'refused',
                                           'read-only', 'folder-gone', 'cancelled', 'unknown')),
  members  int8multirange not null,
  messages int not null,
  bytes    bigint not null,
  primary key (account, run, reason),
  foreign key (account, run) references run on delete cascade
);

-- What the event streams tell, kept long enough for a browser to catch up by Last-Event-ID.
create table event (
  id      bigint generated always as identity primary key,
  account bigint not null references account on delete cascade,
  kind    text not null check (kind in ('scan', 'run', 'level', 'index')),
  data    jsonb not null,
  at      timestamptz not null default now()
);

create index event_by_account on event (account, id);
