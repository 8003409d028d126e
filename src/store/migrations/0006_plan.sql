-- Guards, decisions on senders, and what the plan needs besides its lots. Adds to large tables only columns that are null.

-- What keeps messages out of every lot. The kinds are those of core/guards.
create table guard (
  account     bigint not null references account on delete cascade,
  id          int not null,
  kind        text not null check (kind in ('flagged', 'drafts', 'correspondents', 'criteria', 'hold')),
  -- '' is everything, for a hold; unused by the kinds that are there from the beginning.
  criteria    text not null default '',
  -- Of a hold: kept so long from receipt.
  years       int,
  reason      text not null default '',
  active      boolean not null default true,
  made_at     timestamptz not null default now(),
  -- A hold is never deleted: when it was lifted, and why, stays on record.
  lifted_at   timestamptz,
  lift_reason text,
  primary key (account, id),
  check ((kind = 'hold') = (years is not null)),
  check ((lifted_at is null) = (lift_reason is null))
);

alter table account add column next_guard int not null default 4;

insert into guard (account, id, kind)
select account.id, built.id, built.kind
from account, (values (1, 'flagged'), (2, 'drafts'), (3, 'correspondents')) as built (id, kind);

alter table lot
  -- Where it stands among those of its fate.
  add column place   int,
  -- What the user let through although a guard keeps it; a hold is not to be let through.
  add column passed  int8multirange not null default '{}',
  -- What guards keep out of it now: all of lot_guarded but what was let through.
  add column guarded int8multirange not null default '{}',
  -- The suggestion that it was taken from.
  add column suggestion text;

update lot set place = id;
alter table lot alter column place set not null;

-- Which guard keeps which members of a lot, let through or not.
create table lot_guarded (
  account bigint not null,
  lot     int not null,
  guard   int not null,
  members int8multirange not null,
  primary key (account, lot, guard),
  foreign key (account, lot) references lot on delete cascade,
  foreign key (account, guard) references guard on delete cascade
);

-- Guards are looked at again when a run begins: what was let through before passes then too.
alter table run add column passed int8multirange not null default '{}';

-- What the user decided on a sender. Its lot or guard carries it out; where that is gone, so is the decision.
create table decision (
  account    bigint not null references account on delete cascade,
  by_what    text not null check (by_what in ('address', 'domain', 'list', 'recipient')),
  key        text not null,
  -- As people write it: core/senders/decision.
  verdict    text not null,
  criteria   text not null default '',
  lot        int,
  guard      int,
  decided_at timestamptz not null default clock_timestamp(),
  primary key (account, by_what, key),
  foreign key (account, lot) references lot on delete cascade,
  foreign key (account, guard) references guard on delete cascade
);

-- Suggestions that the user does not want to see again.
create table refused_suggestion (
  account    bigint not null references account on delete cascade,
  key        text not null,
  refused_at timestamptz not null default now(),
  primary key (account, key)
);

-- Whether a document that the user sent came from nowhere else; null where it was never looked at.
alter table message add column sole_document boolean;
