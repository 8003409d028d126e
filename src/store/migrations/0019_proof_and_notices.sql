-- When whoever holds a session last showed that the mailbox is theirs. What matters most asks for that anew.
alter table session_account add column proved_at timestamptz not null default now();

-- Browsers that have signed in to a mailbox before, by a cookie of their own that outlives sessions. Only its hash is kept.
create table known_browser (
  account     bigint      not null references account on delete cascade,
  cookie_hash bytea       not null,
  seen_at     timestamptz not null default now(),
  primary key (account, cookie_hash)
);

-- An address that somebody wants mail to be sent to, until they have typed the code that was sent there.
create table mail_confirmation (
  account   bigint      primary key references account on delete cascade,
  recipient text        not null,
  code_hash bytea       not null,
  tries     int         not null default 0,
  made_at   timestamptz not null default now()
);

-- Mail that was sent for an account, by day: so that no account sends more than a few.
create table mail_sent (
  account bigint not null references account on delete cascade,
  day     date   not null,
  mails   int    not null default 0,
  primary key (account, day)
);

-- No address was ever confirmed, and a mailbox is whatever its server calls it: nobody gets mail before having typed a code.
update account set settings = settings - 'mailTo' where settings ? 'mailTo';
