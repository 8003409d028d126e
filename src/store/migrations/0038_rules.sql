-- Rules for mail to come, as Sieve on the server: what is wanted. The scripts there are written anew from it.

alter table account add column next_rule int not null default 1;

create table sieve_rule (
  account  bigint not null references account on delete cascade,
  id       int not null,
  label    text not null,
  criteria text not null,
  -- Path, as people read it.
  folder   text not null,
  made_at  timestamptz not null default now(),
  primary key (account, id)
);

-- The script that was active before ours was: its name (null: none was) and what stood in it.
create table sieve_before (
  account bigint primary key references account on delete cascade,
  name    text,
  script  text,
  kept_at timestamptz not null default now()
);
