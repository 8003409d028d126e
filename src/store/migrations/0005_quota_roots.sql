-- A host may limit parts of a mailbox apart (RFC 9208 §3.2): which root a folder belongs to, and what each root says.

-- Null while the server was not asked; '' where it names no root.
alter table folder add column quota_root text;

create table quota_root (
  account       bigint not null references account on delete cascade,
  name          text not null,
  used          bigint,
  storage_limit bigint,
  at            timestamptz not null default now(),
  primary key (account, name)
);
