-- What a script shows instead of a session. It is good for one account, and keeps that account's credentials while it lives.
create table api_token (
  account    bigint not null references account on delete cascade,
  id         int not null,
  name       text not null,
  -- SHA-256 of the token, which is kept nowhere.
  token_hash bytea not null,
  -- Whether it may change anything; else it only reads.
  acts       boolean not null,
  ends_at    timestamptz not null,
  made_at    timestamptz not null default now(),
  used_at    timestamptz,
  primary key (account, id)
);

create unique index api_token_by_hash on api_token (token_hash);
