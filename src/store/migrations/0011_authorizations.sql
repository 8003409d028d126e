-- Sealed tokens of OAuth 2.0 are told from passwords, since they are taken back at who gave them when they are forgotten.
alter table credential drop constraint credential_form_check;
alter table credential add constraint credential_form_check check (form in ('password', 'document', 'tokens'));

-- Tokens that are to be taken back. What they were good for may be erased by then, so nothing refers to it.
create table withdrawal (
  id      bigint generated always as identity primary key,
  -- For whom they were sealed.
  account bigint not null,
  host    text not null,
  sealed  bytea not null,
  tries   int not null default 0,
  due_at  timestamptz not null default now()
);

-- An authorization that was begun in a browser and has not come back.
create table authorization_request (
  -- SHA-256 of the cookie that ties it to the browser.
  token_hash bytea primary key,
  -- Where the mailbox is, and what the authorization server's answer is checked with.
  sealed     bytea not null,
  -- When a device code may be asked about again.
  ask_at     timestamptz not null default now(),
  ends_at    timestamptz not null
);
