-- What the columns, the categories and the search for words need. Adds to large tables: on a mailbox of a million messages
-- the index for words takes a minute, in which nothing else can be written.

create extension if not exists pg_trgm;
create extension if not exists btree_gin;

-- Counted up by every transaction that changes the index of the account, under its row lock: so the order of versions is
-- that of the commits, and what changed since a version is exactly what bears a higher one.
alter table account add column index_version bigint not null default 1;

alter table message
  -- Bits of core/categories; null where they were never read.
  add column signs  int,
  -- Bits of core/mailbox/kinds.
  add column kinds  int not null default 0,
  -- The id of the first message of its thread.
  add column thread bigint;

alter table placement
  add column category smallint not null default 0,
  add column changed  bigint not null default 0;

create index placement_by_change on placement (account, changed);

-- Folded texts contain what is searched for: trigrams find the candidates (patterns of three letters and more).
create index message_words on message
  using gin (account, subject_folded gin_trgm_ops, to_folded gin_trgm_ops, files_folded gin_trgm_ops);

-- What the user said of a sender: stronger than any sign.
create table correction (
  account  bigint not null references account on delete cascade,
  by_what  text not null check (by_what in ('address', 'domain')),
  key      text not null,
  category smallint not null,
  primary key (account, by_what, key)
);

-- Criteria that the user named and kept.
create table kept_criteria (
  account  bigint not null references account on delete cascade,
  id       int not null,
  name     text not null,
  criteria text not null,
  kept_at  timestamptz not null default now(),
  primary key (account, id),
  unique (account, name)
);

alter table job drop constraint job_kind_check;
alter table job add constraint job_kind_check check (kind in ('scan', 'run', 'search'));

-- A text that the server was asked for (SEARCH TEXT). Numbered, so that a job can name it.
create table search (
  account       bigint not null references account on delete cascade,
  id            int not null,
  -- As typed, which is what the server is asked for, and folded, under which it is found again.
  wanted        text not null,
  folded        text not null,
  state         text not null default 'queued' check (state in ('queued', 'running', 'done', 'failed')),
  folders_done  int not null default 0,
  folders_total int not null default 0,
  problem       jsonb,
  asked_at      timestamptz not null default now(),
  primary key (account, id),
  unique (account, folded)
);

-- What it found in a folder, good until the folder changes: the marks are those of STATUS when it was asked.
create table search_found (
  account    bigint not null,
  search     int not null,
  generation int not null,
  uid_next   bigint not null,
  messages   int not null,
  uids       int8multirange not null,
  primary key (account, search, generation),
  foreign key (account, search) references search on delete cascade,
  foreign key (account, generation) references generation on delete cascade
);

alter table event drop constraint event_kind_check;
alter table event add constraint event_kind_check check (kind in ('scan', 'run', 'level', 'index', 'search'));
