-- Repeats: what messages were found to be when they were compared, and lots of copies.

-- SHA-256 of a message in three ways (mail/mime/twin-digests). A message never changes, so these are kept as long as it is known.
create table twin_digest (
  account bigint not null,
  message bigint not null,
  -- What copies have in common: the digest of the content, else of what is kept, else of the octets. Null where it can't be read.
  twin    bytea,
  octets  bytea,
  kept    bytea,
  primary key (account, message)
);
create index twin_digest_by_twin on twin_digest (account, twin) where twin is not null;

-- How far the comparing is, for whoever waits for it.
create table proof (
  account       bigint primary key references account on delete cascade,
  state         text   not null check (state in ('queued', 'running', 'done', 'failed')),
  -- Octets to be read at most, that are to be read, and that were read.
  budget        bigint not null,
  total_bytes   bigint not null default 0,
  done_bytes    bigint not null default 0,
  total         int    not null default 0,
  done          int    not null default 0,
  attempts      int    not null default 0,
  problem       jsonb,
  ended_at      timestamptz
);

-- A lot of copies promises that one of each stays.
alter table lot add column of_twins boolean not null default false;

alter table job drop constraint job_kind_check;
alter table job add constraint job_kind_check check (kind in (
  'scan', 'run', 'search', 'quota-check', 'save', 'read-bag', 'repair', 'bring-in', 'read-ways', 'ask-to-stop', 'prove'));

alter table run_left drop constraint run_left_reason_check;
alter table run_left add constraint run_left_reason_check check (reason in (
  'guarded', 'held', 'vanished', 'moved', 'changed', 'no-room', 'refused', 'read-only', 'folder-gone', 'cancelled', 'unknown',
  'signed', 'encrypted', 'malformed', 'alternative', 'unchecked', 'differs', 'no-gain', 'not-decoded', 'there', 'damaged',
  'last-copy'));

alter table event drop constraint event_kind_check;
alter table event add constraint event_kind_check check (kind in ('scan', 'run', 'level', 'index', 'search', 'bag', 'repeats'));
