-- A round: one decision of an operator for several mailboxes. Each is scanned and tried first; then the operator is asked once.
alter table host_operator add column next_round int not null default 1;

create table round (
  operator   bigint not null references host_operator on delete cascade,
  id         int not null,
  -- `purge`: deletes what lies in trash and junk longer than some days. `empty`: saves the whole mailbox in the archive, then deletes
  -- it. `standing`: one standing lot in each.
  kind       text not null check (kind in ('purge', 'empty', 'standing')),
  terms      jsonb not null,
  -- Why the mailboxes are opened: it stands in the ledger of each.
  reason     text not null,
  -- `trying` until the operator has decided.
  state      text not null default 'trying' check (state in ('trying', 'working', 'stopped')),
  created_at timestamptz not null default now(),
  decided_at timestamptz,
  primary key (operator, id)
);

create table round_mailbox (
  operator  bigint not null,
  round     int not null,
  mailbox   int not null,
  host      text not null,
  user_name text not null,
  account   bigint references account on delete set null,
  -- `waiting` to be tried and `queued` to be worked on: for room at the host. `ready`: it was tried, and waits for the operator.
  state     text not null default 'waiting' check (state in (
    'waiting', 'opening', 'scanning', 'ready', 'queued', 'working', 'done', 'nothing', 'failed', 'left')),
  scan      int,
  lot       int,
  bag       int,
  run       int,
  standing  int,
  -- What would go, by the trial.
  messages  int not null default 0,
  bytes     bigint not null default 0,
  -- What the trial says besides, by the kind of the round.
  tried     jsonb,
  -- What went.
  done_messages int not null default 0,
  done_bytes    bigint not null default 0,
  problem   jsonb,
  attempts  int not null default 0,
  not_before timestamptz not null,
  primary key (operator, round, mailbox),
  foreign key (operator, round) references round on delete cascade
);
-- A mailbox is in one round at a time.
create unique index round_mailbox_open on round_mailbox (operator, mailbox)
  where state in ('waiting', 'opening', 'scanning', 'ready', 'queued', 'working');
create index round_mailbox_under_way on round_mailbox (not_before) where state in ('opening', 'scanning', 'working');
create index round_mailbox_to_begin on round_mailbox (host, not_before) where state in ('waiting', 'queued');
create index round_mailbox_by_account on round_mailbox (account);

alter table job drop constraint job_kind_check;
alter table job add constraint job_kind_check check (kind in (
  'scan', 'run', 'search', 'quota-check', 'save', 'read-bag', 'repair', 'bring-in', 'read-ways', 'prove', 'ask-to-stop', 'open'));
