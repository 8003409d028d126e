-- Runs that put messages of the archive into the mailbox again. Their members are numbers of archived messages.

alter table run drop constraint run_action_check;
alter table run add constraint run_action_check
  check (action in ('trash', 'purge', 'restore', 'strip', 'shrink', 'archive', 'put-back'));
-- The account whose archive they are put back from; null of all other runs.
alter table run add column archive_of bigint;
create index run_by_archive on run (archive_of) where archive_of is not null;

alter table run_left drop constraint run_left_reason_check;
alter table run_left add constraint run_left_reason_check check (reason in (
  'guarded', 'held', 'vanished', 'moved', 'changed', 'no-room', 'refused', 'read-only', 'folder-gone', 'cancelled', 'unknown',
  'signed', 'encrypted', 'malformed', 'alternative', 'unchecked', 'differs', 'no-gain', 'not-decoded', 'there', 'damaged'));

-- A message that was put back, or is about to be. It is written down before it is appended.
create table run_put_back (
  account    bigint not null,
  run        int not null,
  archived   bigint not null,
  state      text not null check (state in ('appending', 'standing')),
  generation int not null,
  -- The folder's next UID before the APPEND: the message has this or a higher one.
  uid_next   bigint not null,
  uid        bigint,
  size       bigint not null,
  sha256     bytea not null,
  primary key (account, run, archived),
  foreign key (account, run) references run on delete cascade
);

-- Nobody reads how many files were taken out of a message; what was written down of runs that ended stays as it is.
alter table run_rewrite alter column files set default 0;
