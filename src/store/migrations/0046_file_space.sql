-- File spaces: folders on a WebDAV server (RFC 4918) that belong to an account, and what lies in them.
alter table account add column next_space int not null default 1;
-- Numbers of the files and folders of all its file spaces: drawn in blocks, and never used again.
alter table account add column next_file bigint not null default 1;

create table space (
  account         bigint not null references account on delete cascade,
  id              int not null,
  -- `https://files.example:8443`, and the path of its uppermost folder (core/space/path.ts).
  origin          text not null,
  root            text not null,
  -- Who signs in, and the password, sealed; null: as to the mailbox.
  user_name       text,
  sealed          bytea,
  -- `locked`: there is no password that the server takes.
  state           text not null default 'active' check (state in ('active', 'locked')),
  -- Whether its files count against the limit of the mailbox, as a person said; null: as the figures tell.
  shares_quota    boolean,
  -- What the server says (RFC 4331), in octets, and when.
  quota_used      bigint,
  quota_available bigint,
  asked_at        timestamptz,
  -- Where changes can be asked for (RFC 6578): from which state on.
  sync_token      text,
  -- The newest listing, and how far it is: it goes on where it was killed.
  listing         int not null default 0,
  listing_state   text not null default 'done' check (listing_state in ('queued', 'running', 'done', 'failed')),
  attempts        int not null default 0,
  problem         jsonb,
  -- When what is here was last equal to what is there.
  listed_at       timestamptz,
  -- Sums over what is here, as of the last look at it: files that count, of these pictures, and what others share.
  files           int not null default 0,
  bytes           bigint not null default 0,
  pictures        int not null default 0,
  picture_bytes   bigint not null default 0,
  shared_files    int not null default 0,
  shared_bytes    bigint not null default 0,
  folders         int not null default 0,
  folders_left    int not null default 0,
  created_at      timestamptz not null default now(),
  primary key (account, id),
  unique (account, origin, root),
  check ((user_name is null) = (sealed is null))
);

create table space_folder (
  account   bigint not null,
  id        bigint not null,
  space     int not null,
  path      text not null,
  -- SHA-256 of the path, which may be longer than an index takes.
  path_hash bytea not null,
  -- The folder in which it lies; null of the uppermost.
  parent    bigint,
  depth     int not null,
  -- It belongs to somebody else, and does not count.
  shared    boolean not null,
  -- The listings in which it was last seen, and in which its members were last read to their end.
  seen      int not null,
  listed    int not null default 0,
  -- Of its files as they were last read; null where they have changed since. As long as it is the same, they are not looked at.
  digest    bytea,
  primary key (account, id),
  unique (account, space, path_hash)
);
-- The folders that are still to be read.
create index space_folder_to_list on space_folder (account, space, seen, id) where listed < seen;
create index space_folder_by_parent on space_folder (account, parent);

create table space_file (
  account     bigint not null,
  id          bigint not null,
  space       int not null,
  folder      bigint not null,
  path        text not null,
  path_hash   bytea not null,
  name        text not null,
  name_folded text not null,
  type        text not null,
  -- As of files in messages (core/files/kinds.ts).
  kind        smallint not null,
  bytes       bigint not null,
  -- Null where the server gives none.
  etag        text,
  modified    timestamptz,
  shared      boolean not null,
  -- A row is a file in one state of it. When the file changes or goes, the row stays as a tombstone, for the plan and the ledger.
  gone_at     timestamptz,
  primary key (account, id)
);
create unique index space_file_by_path on space_file (account, space, path_hash) where gone_at is null;
create index space_file_by_folder on space_file (account, folder) where gone_at is null;

alter table event drop constraint event_kind_check;
alter table event add constraint event_kind_check check (kind in (
  'scan', 'run', 'level', 'index', 'search', 'bag', 'repeats', 'space'));

alter table job drop constraint job_kind_check;
alter table job add constraint job_kind_check check (kind in (
  'scan', 'run', 'search', 'quota-check', 'save', 'read-bag', 'repair', 'bring-in', 'read-ways', 'prove', 'ask-to-stop', 'open',
  'list-space'));
