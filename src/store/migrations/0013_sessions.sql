-- Sessions are shown to whoever is signed in to the same mailbox, and ended by them, so they have a number that is no secret.
alter table session
  add column id           bigint generated always as identity,
  -- What the browser calls itself.
  add column agent        text not null default '',
  -- After so many seconds without a request it is over.
  add column idle_seconds int not null default 43200;
