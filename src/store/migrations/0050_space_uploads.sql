-- Files of messages that are put into a file space.
alter table account add column next_upload int not null default 1;

create table space_upload (
  account     bigint not null,
  id          int not null,
  space       int not null,
  label       text not null,
  -- The folder below which they are put, as core/space/path.ts spells it.
  folder      text not null,
  state       text not null default 'queued' check (state in ('queued', 'running', 'paused', 'done', 'cancelled', 'failed')),
  -- Ids of files of messages, and how many they are, with their encoded octets.
  files       int8multirange not null,
  asked_files int not null,
  asked_bytes bigint not null,
  -- What the person wants.
  wanted      text check (wanted in ('pause', 'cancel')),
  attempts    int not null default 0,
  problem     jsonb,
  created_at  timestamptz not null default now(),
  ended_at    timestamptz,
  primary key (account, id),
  foreign key (account, space) references space on delete cascade
);

-- A file that is about to be put there, is there, or was left. What was not looked at yet has no row.
create table space_upload_file (
  account    bigint not null,
  upload     int not null,
  file       bigint not null,
  state      text not null check (state in ('sent', 'done', 'left')),
  -- Encoded octets, as the structure of its message says.
  encoded    bigint not null,
  -- Where it was sent; null where the file space had it before, and of what was left.
  path       text,
  -- The path below the folder of the upload, folded: no two files have the same.
  path_key   text,
  -- Of its octets, and how many they are.
  sha256     bytea,
  bytes      bigint,
  -- The file of the file space that has them.
  space_file bigint,
  reason     text check (reason in (
    'vanished', 'differs', 'unreadable', 'cancelled', 'no-room', 'locked', 'there', 'folder-gone', 'refused', 'altered')),
  primary key (account, upload, file),
  foreign key (account, upload) references space_upload on delete cascade,
  check ((state = 'left') = (reason is not null)),
  check ((state = 'done') = (space_file is not null))
);
create unique index space_upload_file_by_path on space_upload_file (account, upload, path_key) where path_key is not null;

-- Files that may be the same as one that is put there.
create index space_file_unread_by_size on space_file (account, space, bytes) where not read and gone_at is null;

alter table event drop constraint event_kind_check;
alter table event add constraint event_kind_check check (kind in (
  'scan', 'run', 'level', 'index', 'search', 'bag', 'repeats', 'space', 'upload'));

alter table job drop constraint job_kind_check;
alter table job add constraint job_kind_check check (kind in (
  'scan', 'run', 'search', 'quota-check', 'save', 'read-bag', 'repair', 'bring-in', 'read-ways', 'prove', 'ask-to-stop', 'open',
  'list-space', 'upload'));

-- A lot of files may promise that a message has each.
alter table lot drop constraint lot_promise_check;
alter table lot add constraint lot_promise_check check (promise in ('twins', 'files', 'pictures', 'echoes', 'spaces', 'mail'));
