-- Runs whose every step can be settled, the chain over the ledger, and when a message went into the trash.
-- Adds to large tables only columns that are null or have a constant default.

-- Where the members of a run lay when it was frozen. A member that lies elsewhere when its turn comes was moved: it is left.
create table run_source (
  account bigint not null,
  run     int not null,
  folder  int not null,
  members int8multirange not null,
  primary key (account, run, folder),
  foreign key (account, run) references run on delete cascade
);

insert into run_source (account, run, folder, members)
select r.account, r.id, p.folder, range_agg(int8range(p.id, p.id + 1))
from run r, unnest(r.members) span
join placement p on p.id >= lower(span) and p.id < upper(span)
where r.state not in ('done', 'cancelled') and p.account = r.account
group by r.account, r.id, p.folder;

alter table run_batch
  -- How it is carried out. `hand-over`: the server itself puts what is expunged into the trash.
  add column method text not null default 'move' check (method in ('move', 'copy', 'expunge', 'hand-over')),
  -- Placements with their UIDs at the source and, where known, at the destination (else 0), in the same order.
  add column ids     bigint[] not null default '{}',
  add column uids    bigint[] not null default '{}',
  add column arrived bigint[] not null default '{}',
  -- UIDs of a generation whose \Deleted, set by others, is lifted while a bare EXPUNGE is under way.
  add column lifted  int8multirange not null default '{}',
  add column lifted_in int,
  -- SHA-256 over what was done: store/batches says of what.
  add column digest  bytea;

alter table run_batch alter column state set default 'sent';
alter table run_batch drop constraint run_batch_state_check;
alter table run_batch add constraint run_batch_state_check check (state in ('sent', 'marked', 'copied', 'done'));

alter table run
  -- {"user": "...", "via": "page" | "script"}
  add column asked_by  jsonb not null default '{}',
  -- The server's figure once it had followed: {"used": 1, "counted": 1, "at": "..."}.
  add column settled   jsonb,
  -- Placements from this id on came into the index after the run was frozen.
  add column fresh_from bigint,
  -- Milliseconds of work, pauses and waits between attempts left out.
  add column worked_ms bigint not null default 0,
  -- Whether the server turned out to put what is expunged into the trash by itself.
  add column hands_over boolean not null default false;

-- Whether the placements of a closed generation were looked for in the one that followed.
alter table generation
  add column succeeded boolean not null default false,
  add column opened_at timestamptz not null default now();

-- When it came into its folder (SAVEDATE, RFC 8514), as far as is known.
alter table placement add column placed_at timestamptz;

create index placement_trashed on placement (account, trashed_by) where trashed_by is not null and gone_at is null;

-- The ledger as a chain: each entry's code covers the entry before. The key is not in the database.
create table ledger_entry (
  account bigint not null references account on delete cascade,
  seq     int not null,
  at      text not null,
  kind    text not null check (kind in ('asked', 'ended', 'settled')),
  run     int not null,
  -- JSON, kept as the text that the code covers.
  body    text not null,
  key_id  bytea not null,
  code    bytea not null,
  primary key (account, seq)
);

alter table account add column next_entry int not null default 1;

-- Mail to the user about work that has ended, kept until the submission server has taken it.
create table notice (
  account    bigint not null references account on delete cascade,
  id         bigint generated always as identity,
  recipient  text not null,
  subject    text not null,
  body       text not null,
  made_at    timestamptz not null default now(),
  not_before timestamptz not null default now(),
  attempts   int not null default 0,
  primary key (account, id)
);

create index notice_waiting on notice (not_before);

-- A `look` has the account scanned after a while, to see whether the server's figure has followed.
alter table job drop constraint job_kind_check;
alter table job add constraint job_kind_check check (kind in ('scan', 'run', 'search', 'look'));
