-- Who signs in, and to which mailbox. Small tables, locked for moments only.

create table account (
  id              bigint generated always as identity primary key,
  -- Normalised: host lower case without a final dot, so that two spellings are one account.
  host            text not null,
  port            int not null,
  security        text not null check (security in ('tls', 'starttls', 'none')),
  user_name       text not null,
  state           text not null default 'active' check (state in ('active', 'locked')),
  -- Placement and message ids are drawn from here, in blocks, and never used again.
  next_id         bigint not null default 1,
  -- Scans, lots and runs are numbered as people see them: 1, 2, 3.
  next_scan       int not null default 1,
  next_lot        int not null default 1,
  next_run        int not null default 1,
  settings        jsonb not null default '{}',
  personal_prefix text not null default '',
  created_at      timestamptz not null default now(),
  unique (host, port, user_name)
);

create table credential (
  account   bigint primary key references account on delete cascade,
  -- Key id, nonce, tag and ciphertext of AES-256-GCM with the account as associated data.
  sealed    bytea not null,
  -- Set when the last session went while a run was going; the worker deletes the row at its end.
  forget    boolean not null default false,
  stored_at timestamptz not null default now()
);

create table session (
  -- SHA-256 of the token; the token itself is in the cookie only.
  token_hash bytea primary key,
  created_at timestamptz not null default now(),
  seen_at    timestamptz not null default now(),
  expires_at timestamptz not null
);

create table session_account (
  token_hash bytea not null references session on delete cascade,
  account    bigint not null references account on delete cascade,
  primary key (token_hash, account)
);

create index session_account_by_account on session_account (account);

-- Sign-in attempts, counted by who asks and by which host is asked for.
create table attempt (
  subject text not null,
  at      timestamptz not null default now()
);

create index attempt_by_subject on attempt (subject, at);

create table worker (
  id      uuid primary key,
  seen_at timestamptz not null default now()
);
