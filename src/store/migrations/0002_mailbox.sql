-- The index of a mailbox. Every key holds the account first, so that these tables can be partitioned by it.

create table folder (
  account     bigint not null references account on delete cascade,
  id          int not null,
  -- As people read it, and as the server has it (decoded, and raw on the wire).
  path        text not null,
  server_name text not null,
  delimiter   text,
  role        text check (role in ('inbox', 'sent', 'drafts', 'junk', 'trash', 'archive')),
  -- A view that repeats mail of other folders (\All, \Flagged): shown, never counted.
  repeats     boolean not null default false,
  selectable  boolean not null default true,
  -- The server's own figures of the last STATUS; bytes null where it does not tell.
  status_messages int not null default 0,
  status_bytes    bigint,
  gone_at     timestamptz,
  primary key (account, id)
);

create unique index folder_by_server_name on folder (account, server_name) where gone_at is null;

-- A folder between two changes of its UIDVALIDITY (RFC 9051 §2.3.1.1). UIDs mean something inside one only.
create table generation (
  account        bigint not null,
  id             int not null,
  folder         int not null,
  uid_validity   bigint not null,
  -- What STATUS said when the folder was last found equal to ours; null while that was never so.
  seen_uid_next  bigint,
  seen_mod_seq   bigint,
  seen_messages  int,
  closed_at      timestamptz,
  primary key (account, id),
  foreign key (account, folder) references folder on delete cascade
);

create unique index generation_current on generation (account, folder) where closed_at is null;

-- What a message says of itself; one row however many folders it lies in.
create table message (
  account             bigint not null references account on delete cascade,
  id                  bigint not null,
  email_id            text,
  message_id          text not null default '',
  in_reply_to         text not null default '',
  -- Message-IDs parted by blanks, oldest first.
  reference_ids       text not null default '',
  -- The Date field; null where it is absent or absurd.
  sent                timestamptz,
  from_name           text not null default '',
  from_address        text not null default '',
  from_host           text not null default '',
  -- The registrable domain by the Public Suffix List.
  from_domain         text not null default '',
  from_name_folded    text not null default '',
  from_address_folded text not null default '',
  -- [{name, address}] of To and Cc.
  recipients          jsonb not null default '[]',
  to_folded           text not null default '',
  subject             text not null default '',
  subject_folded      text not null default '',
  list_id             text not null default '',
  list_folded         text not null default '',
  -- The fields that tell bulk from personal, as they stand: {"precedence": "bulk", ...}.
  bulk_fields         jsonb not null default '{}',
  -- [{name, type, size, disposition}], size in encoded octets.
  files               jsonb not null default '[]',
  file_count          int not null default 0,
  file_bytes          bigint not null default 0,
  files_folded        text not null default '',
  -- What could not be read: date, from, subject, structure.
  flaws               text[] not null default '{}',
  primary key (account, id)
);

create index message_by_email_id on message (account, email_id) where email_id is not null;

-- A message in a folder. When it goes it stays as a tombstone, so that lots and the ledger keep their meaning.
create table placement (
  account    bigint not null,
  id         bigint not null,
  message    bigint not null,
  folder     int not null,
  generation int not null,
  uid        bigint not null,
  size       bigint not null,
  received   timestamptz not null,
  -- Bits of core/mailbox/flags.
  flags      int not null default 0,
  keywords   text[] not null default '{}',
  -- Where our own run took it from, while it lies in the trash.
  origin     int,
  trashed_by int,
  gone_at    timestamptz,
  -- The run that purged it; null where somebody else did.
  purged_by  int,
  primary key (account, id),
  foreign key (account, message) references message on delete cascade,
  foreign key (account, generation) references generation on delete cascade
);

create unique index placement_by_uid on placement (account, generation, uid) where gone_at is null;
create index placement_by_size on placement (account, size desc, id) where gone_at is null;
create index placement_by_message on placement (account, message);

-- Every reading of how full the account is.
create table reading (
  account bigint not null references account on delete cascade,
  at      timestamptz not null default clock_timestamp(),
  -- The server's figures; null without the quota extension. Octets, counted by it in units of 1024 (RFC 9208 §5.1).
  used           bigint,
  storage_limit  bigint,
  messages       bigint,
  message_limit  bigint
);

create index reading_by_time on reading (account, at desc);
