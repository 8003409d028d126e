-- Files: every part of a message that a person would call one, those of enclosed messages too. On a mailbox of a million
-- messages the last statement takes a minute, in which nothing else can be written.

create table file (
  account     bigint not null,
  -- 512 times the message's id and the file's place in the message, so that a set of files is ranges (core/files).
  id          bigint not null,
  -- Section of the message (RFC 9051 §6.4.5.1).
  part        text not null,
  name        text not null,
  name_folded text not null,
  type        text not null,
  -- A number of core/files/kinds.
  kind        smallint not null,
  -- Encoded octets, and of an enclosed message those that are no file inside it.
  size        bigint not null,
  own_size    bigint not null,
  encoding    text not null,
  disposition text,
  -- How many of the files behind it are inside it, and whether it is inside another.
  inside      int not null,
  enclosed    boolean not null,
  primary key (account, id)
);

alter table message drop column files;

-- Messages that were indexed before their files were: the next scan reads their structure again.
alter table message add column files_unread boolean not null default false;
update message set files_unread = true where file_count > 0;
create index message_files_unread on message (account, id) where files_unread;
