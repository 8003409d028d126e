-- Asking to stop: how the senders of mailings say that one leaves them, whom the person asked, and what came of it.

create table ask (
  account   bigint not null references account on delete cascade,
  -- The author's address, or the identifier of a list, folded.
  sender    text   not null,
  -- The newest of its messages that says how, as a placement; and when it was read.
  placement bigint not null,
  read_at   timestamptz not null,
  in_junk   boolean not null,
  -- core/unsubscribe: how, and whether it is the sender's own word.
  ways      jsonb  not null,
  authenticity jsonb not null,
  -- Null: not asked. `sending`: a worker is about to ask, or died while it did. `unclear`: nobody knows whether it was heard.
  state     text check (state in ('queued', 'sending', 'asked', 'failed', 'unclear')),
  how       text check (how in ('one-click', 'mail')),
  asked_at  timestamptz,
  problem   jsonb,
  primary key (account, sender)
);
create index ask_queued on ask (account) where state in ('queued', 'sending');

alter table job drop constraint job_kind_check;
alter table job add constraint job_kind_check check (kind in (
  'scan', 'run', 'search', 'quota-check', 'save', 'read-bag', 'repair', 'bring-in', 'read-ways', 'ask-to-stop'));
