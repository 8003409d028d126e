-- Lots and runs of files in file spaces.

-- Where files go that are let go; null: as the folders are called.
alter table space add column trash text;
alter table space add column trash_files int not null default 0;
alter table space add column trash_bytes bigint not null default 0;
-- Of these, pictures.
alter table space add column trash_picture_bytes bigint not null default 0;
-- Which run brought a file to the trash of its file space, and where it lay before.
alter table space_file add column trashed_by int;
alter table space_file add column origin text;
create index space_file_trashed on space_file (account, trashed_by) where trashed_by is not null and gone_at is null;

-- A lot holds either messages, or files of one file space; `excepted` are files then.
alter table lot add column space int;
alter table lot add column space_files int8multirange;
alter table lot add constraint lot_of_space_check check (
  (space is null) = (space_files is null)
  and (space is null or (isempty(members) and files is null and fate in ('trash', 'purge'))));

-- So does a run: its counts are of files then.
alter table run add column space int;
alter table run add column space_files int8multirange not null default '{}';
-- The folder in the trash into which it brings them: its own, so that nothing else lies there.
alter table run add column trash_folder text;

-- A file of a run that was sent to its server, or is done. What was never sent, or is left, has no row.
create table run_file (
  account   bigint not null,
  run       int not null,
  file      bigint not null,
  state     text not null check (state in ('sent', 'done')),
  -- As it was when it was looked at.
  from_path text not null,
  bytes     bigint not null,
  etag      text,
  modified  timestamptz,
  -- Null of a purge.
  to_path   text,
  primary key (account, run, file),
  foreign key (account, run) references run on delete cascade
);
create index run_file_sent on run_file (account, run) where state = 'sent';

alter table run_left drop constraint run_left_reason_check;
alter table run_left add constraint run_left_reason_check check (reason in (
  'guarded', 'held', 'vanished', 'moved', 'changed', 'no-room', 'refused', 'read-only', 'folder-gone', 'cancelled', 'unknown',
  'signed', 'encrypted', 'malformed', 'alternative', 'unchecked', 'differs', 'no-gain', 'not-decoded', 'there', 'damaged',
  'last-copy', 'locked'));
