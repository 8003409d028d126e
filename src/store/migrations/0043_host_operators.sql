-- Who looks after mailboxes of others at a mail host: a name and a password that the host knows.
create table host_operator (
  id         bigint generated always as identity primary key,
  -- Normalised, as those of accounts.
  host       text not null,
  port       int not null,
  security   text not null check (security in ('tls', 'starttls', 'none')),
  user_name  text not null,
  -- A mailbox that the host let them open: by it their password is tried again where it is in doubt.
  proof      text not null,
  -- `locked`: the host refused them again and again, so nobody signs in until they do so themselves.
  state      text not null default 'active' check (state in ('active', 'locked')),
  -- Mailboxes in a row that the host refused to open.
  refusals   int not null default 0,
  -- Whether mailboxes are measured each day, also while nobody is signed in: then the passwords are kept.
  daily      boolean not null default false,
  next_mailbox int not null default 1,
  created_at timestamptz not null default now(),
  unique (host, port, user_name)
);

create table host_operator_credential (
  operator  bigint primary key references host_operator on delete cascade,
  -- As in credential.
  sealed    bytea not null,
  stored_at timestamptz not null default now()
);

create table session_operator (
  token_hash bytea not null references session on delete cascade,
  operator   bigint not null references host_operator on delete cascade,
  proved_at  timestamptz not null default now(),
  primary key (token_hash, operator)
);
create index session_operator_by_operator on session_operator (operator);

-- A mailbox that an operator looks after. Nothing in it is read for this: only quota and STATUS are asked.
create table host_mailbox (
  operator   bigint not null references host_operator on delete cascade,
  id         int not null,
  host       text not null,
  port       int not null,
  security   text not null check (security in ('tls', 'starttls', 'none')),
  user_name  text not null,
  -- Its own password; null where the operator signs in for it.
  sealed     bytea,
  -- What a person states of it: limits, for a host that tells none; the share to which it is to come down.
  stated_bytes    bigint check (stated_bytes > 0),
  stated_messages bigint check (stated_messages > 0),
  target     real not null default 0.8 check (target > 0 and target <= 1),
  note       text not null default '',
  left_on    date,
  catches_all boolean not null default false,
  added_at   timestamptz not null default now(),
  -- Why the last try to measure it failed; null where it did not.
  problem    jsonb,
  -- When it is measured next, and how often that failed since.
  due_at     timestamptz not null,
  attempts   int not null default 0,
  -- Who measures it now. Another takes it when the lease is over.
  worker     uuid,
  lease_until timestamptz,
  primary key (operator, id),
  unique (operator, host, port, user_name)
);
create index host_mailbox_due on host_mailbox (host, due_at);
create index host_mailbox_leased on host_mailbox (worker) where lease_until is not null;

-- One a day: the last of the day counts. Octets; null where the host does not tell.
create table host_measurement (
  operator bigint not null,
  mailbox  int not null,
  day      date not null,
  at       timestamptz not null,
  used           bigint,
  storage_limit  bigint,
  messages       bigint,
  message_limit  bigint,
  counted_messages bigint not null,
  counted_bytes    bigint,
  inbox_messages bigint not null,
  inbox_unseen   bigint,
  trash_messages bigint not null,
  trash_bytes    bigint,
  junk_messages  bigint not null,
  junk_bytes     bigint,
  primary key (operator, mailbox, day),
  foreign key (operator, mailbox) references host_mailbox on delete cascade
);
