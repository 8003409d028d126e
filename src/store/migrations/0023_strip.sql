-- Taking files out of messages: lots and runs that replace a message with one that says in the place of each file where it is.

alter table lot drop constraint lot_fate_check;
alter table lot add constraint lot_fate_check check (fate in ('trash', 'purge', 'strip'));
-- Files that a strip lot takes out.
alter table lot add column files int8multirange;

alter table run drop constraint run_action_check;
alter table run add constraint run_action_check check (action in ('trash', 'purge', 'restore', 'strip'));
-- Files that a strip run takes out, and the run whose replacements this one removes.
alter table run add column files int8multirange;
alter table run add column replacements_of int;

alter table run_left drop constraint run_left_reason_check;
alter table run_left add constraint run_left_reason_check check (reason in (
  'guarded', 'held', 'vanished', 'moved', 'changed', 'no-room', 'refused', 'read-only', 'folder-gone', 'cancelled', 'unknown',
  'signed', 'encrypted', 'malformed', 'alternative', 'unchecked', 'differs', 'no-gain'));

-- A message that stands in the place of another, of which files were taken out. It is written down before it is appended.
create table run_rewrite (
  account      bigint not null,
  run          int not null,
  -- The original.
  placement    bigint not null,
  state        text not null check (state in ('appending', 'standing')),
  generation   int not null,
  -- The folder's next UID before the APPEND: the replacement has this or a higher one.
  uid_next     bigint not null,
  uid          bigint,
  size         bigint not null,
  sha256       bytea not null,
  -- How many files were taken out.
  files        int not null,
  primary key (account, run, placement),
  foreign key (account, run) references run on delete cascade
);
create index run_rewrite_by_original on run_rewrite (account, placement);
