-- A scan writes by the hundred thousand, so what it writes is checked by its writer and not row by row: these foreign keys
-- cost as much as the indexes. Who erases an account deletes these rows himself (eraseAccount).
alter table message drop constraint message_account_fkey;
alter table placement drop constraint placement_account_message_fkey;
alter table placement drop constraint placement_account_generation_fkey;

-- Threads are joined, and words indexed, once a scan is through: up to which message.
alter table account
  add column threaded_to bigint not null default 0,
  add column words_to    bigint not null default 0;

-- The words of messages in a table of their own: an index of trigrams costs more than all else that a scan writes, so it
-- is made behind it. What is searched for is found in the message's own texts; this finds the candidates.
drop index message_words;

create table words (
  account bigint not null,
  message bigint not null,
  -- Subject, recipients and names of files, folded, a line each.
  folded  text not null
);

create index words_by_trigram on words using gin (account, folded gin_trgm_ops) with (gin_pending_list_limit = 65536);

-- How far a scan has come, so that a page knows which figures are final:
-- level, then outline (size, date and author of every message), then details, then settling (threads and categories).
alter table scan
  add column stage text not null default 'level' check (stage in ('level', 'outline', 'details', 'settling')),
  -- Of the outline, once it is whole: {messages, bytes, sizes: [{from, messages, bytes}]}.
  add column outline jsonb;

-- Who fills a mailbox, told before its messages are read: the senders of the outline of the scan under way.
create table first_ranking (
  account  bigint not null references account on delete cascade,
  -- As stored in message.from_address; '' for none.
  address  text not null,
  domain   text not null,
  name     text not null,
  messages int not null,
  bytes    bigint not null,
  unseen   int not null,
  first    timestamptz not null,
  last     timestamptz not null,
  primary key (account, address)
);
