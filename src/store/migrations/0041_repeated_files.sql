-- Repeats beyond whole messages: files that were mailed again, pictures nearly alike, messages that a later one quotes in full.

-- What a lot promises of what it takes: that another one stays, of which kind.
alter table lot add column promise text check (promise in ('twins', 'files', 'pictures', 'echoes'));
update lot set promise = 'twins' where of_twins;
alter table lot drop column of_twins;

-- SHA-256 of a file's decoded octets, and how many they are; null where it can't be read. A file of a message never changes.
create table file_digest (
  account bigint not null,
  file    bigint not null,
  sha256  bytea,
  size    bigint,
  primary key (account, file)
);
create index file_digest_by_sha256 on file_digest (account, sha256) where sha256 is not null;
-- Its copy outside the mailbox is told by the same octets.
create index bag_file_by_sha256 on bag_file (account, sha256) where reason is null;

-- How a picture looks (core/repeats/picture-hash); no row where it was not looked at, null where it can't be decoded.
create table picture_look (
  account   bigint not null,
  file      bigint not null,
  hash      bigint,
  sharpness real,
  width     int,
  height    int,
  primary key (account, file)
);

-- Messages whose text and files stand whole in a later one of their thread.
create table echo (
  account bigint not null,
  message bigint not null,
  holder  bigint not null,
  primary key (account, message, holder)
);
create index echo_by_holder on echo (account, holder);

-- Threads whose texts were compared: with how many messages, up to which one.
create table thread_read (
  account bigint not null,
  thread  bigint not null,
  messages int not null,
  last     bigint not null,
  primary key (account, thread)
);

-- One of each kind of reading may be under way.
alter table proof add column what text not null default 'messages' check (what in ('messages', 'files', 'pictures', 'threads'));
alter table proof drop constraint proof_pkey, add primary key (account, what);
