-- Bags (RFC 8493): files that are kept outside the mailbox, and what is known of each.

alter table account add column next_bag int not null default 1;

create table bag (
  account bigint not null references account on delete cascade,
  id      int not null,
  label   text not null,
  -- `here`: it stays on this machine. `download`: it is there to be downloaded, and its files are safe once the person has
  -- handed in their copy.
  place   text not null check (place in ('here', 'download')),
  -- Its folder in the archive.
  folder  text not null,
  state   text not null default 'queued'
          check (state in ('queued', 'running', 'checking', 'paused', 'done', 'cancelled', 'failed', 'erased')),
  -- Ids of the files that it is to hold, and how many these are, with their encoded octets.
  files       int8multirange not null,
  asked_files int not null,
  asked_bytes bigint not null,
  wanted      text check (wanted in ('pause', 'cancel')),
  attempts    int not null default 0,
  problem     jsonb,
  created_at  timestamptz not null default now(),
  ended_at    timestamptz,
  -- When every octet was last read back.
  checked_at  timestamptz,
  primary key (account, id)
);

create table bag_file (
  account   bigint not null,
  bag       int not null,
  file      bigint not null,
  -- The message's placement that it was read from.
  placement bigint not null,
  -- Below data/ in the bag, and folded: two names that differ in case alone are one on some systems. '' where it was left.
  path      text not null default '',
  path_key  text,
  -- Of the decoded octets.
  size      bigint not null default 0,
  sha256    bytea,
  -- Encoded octets, as the server sent them.
  encoded   bigint not null default 0,
  -- Why it was left; null where it was saved.
  reason    text check (reason in ('vanished', 'differs', 'unreadable', 'cancelled')),
  -- When a copy that stays was read back and was equal.
  checked_at timestamptz,
  primary key (account, bag, file),
  foreign key (account, bag) references bag on delete cascade
);

create unique index bag_file_by_path on bag_file (account, bag, path_key) where path_key is not null;
create index bag_file_by_file on bag_file (account, file) where reason is null;

alter table job drop constraint job_kind_check;
alter table job add constraint job_kind_check check (kind in ('scan', 'run', 'search', 'quota-check', 'save'));
alter table event drop constraint event_kind_check;
alter table event add constraint event_kind_check check (kind in ('scan', 'run', 'level', 'index', 'search', 'bag'));
