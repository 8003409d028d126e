-- The messages of the archive, as they were when they were saved, and the words of their texts. On an archive of 100,000 messages
-- this takes seconds.

alter table account
  add column next_archived bigint not null default 1,
  add column next_archive_folder int not null default 1;

-- A folder that archived messages were in, by its path. It stays when the folder of the mailbox goes or is renamed.
create table archive_folder (
  account bigint not null references account on delete cascade,
  id      int not null,
  path    text not null,
  primary key (account, id),
  unique (account, path)
);

-- A message in a bag of this machine. Its octets are at the place that bag_file says, what it says of itself is in message. The
-- numbers of the messages of a bag follow each other, in the order of their places.
create table archived (
  account  bigint not null,
  id       bigint not null,
  bag      int not null,
  message  bigint not null,
  folder   int not null,
  uid      bigint not null,
  size     bigint not null,
  received timestamptz not null,
  -- Of its Date field, else when it was received.
  dated    timestamptz not null,
  flags    int not null,
  keywords text[] not null,
  category smallint not null,
  primary key (account, id),
  foreign key (account, bag) references bag on delete cascade
);
create index archived_by_bag on archived (account, bag, id);
create index archived_by_date on archived (account, dated desc, id);
create index archived_by_message on archived (account, message);

-- The words of so many archived messages from the first on (core/words).
create table archived_words (
  account bigint not null,
  bag     int not null,
  first   bigint not null,
  texts   int not null,
  -- Deflated (RFC 1951).
  words   bytea not null,
  lengths bytea not null,
  numbers bytea not null,
  primary key (account, first),
  foreign key (account, bag) references bag on delete cascade
);
-- The folded texts of so many archived messages from the first on, deflated.
create table archived_text (
  account bigint not null,
  bag     int not null,
  first   bigint not null,
  texts   int not null,
  octets  bytea not null,
  primary key (account, first),
  foreign key (account, bag) references bag on delete cascade
);
-- What is deflated is not compressed once more.
alter table archived_words alter column words set storage external, alter column lengths set storage external,
  alter column numbers set storage external;
alter table archived_text alter column octets set storage external;

alter table bag
  -- The last archived message whose words are known, and when that were all; how many had a text that could not be read whole.
  add column words_to     bigint,
  add column words_at     timestamptz,
  add column words_partly int not null default 0;

-- The mbox files of a bag, with the SHA-256 that its manifest has.
create table bag_part (
  account   bigint not null,
  bag       int not null,
  path      text not null,
  size      bigint not null,
  sha256    bytea not null,
  -- What it holds that was saved, in octets of the messages themselves.
  messages  int not null default 0,
  octets    bigint not null default 0,
  -- When a copy of it that lies elsewhere was handed in and was equal.
  copied_at timestamptz,
  primary key (account, bag, path),
  foreign key (account, bag) references bag on delete cascade
);

alter table bag_file
  -- When a copy of it that lies elsewhere was handed in and was equal; of a file by itself.
  add column copied_at  timestamptz,
  -- When it was found not to be what it was when it was saved. It counts as checked no more then.
  add column damaged_at timestamptz;
create index bag_file_damaged on bag_file (account, bag) where damaged_at is not null;

insert into archive_folder (account, id, path)
select account, row_number() over (partition by account order by path), path from (
  select distinct s.account, d.path from bag_file s join bag b on b.account = s.account and b.id = s.bag
  join placement p on p.account = s.account and p.id = s.placement join folder d on d.account = s.account and d.id = p.folder
  where b.place = 'here' and b.state = 'done' and s.file % 512 = 511 and s.reason is null) known;
insert into archived (account, id, bag, message, folder, uid, size, received, dated, flags, keywords, category)
select s.account, row_number() over (partition by s.account order by s.bag, s.path, s.at, s.file), s.bag, s.file / 512, a.id, p.uid,
  s.encoded, p.received, coalesce((select sent from message m where m.account = s.account and m.id = s.file / 512), p.received), p.flags, p.keywords, p.category
from bag_file s join bag b on b.account = s.account and b.id = s.bag
join placement p on p.account = s.account and p.id = s.placement join folder d on d.account = s.account and d.id = p.folder
join archive_folder a on a.account = s.account and a.path = d.path
where b.place = 'here' and b.state = 'done' and s.file % 512 = 511 and s.reason is null;
update account set next_archived = (select count(*) + 1 from archived a where a.account = account.id),
  next_archive_folder = (select count(*) + 1 from archive_folder f where f.account = account.id);

alter table job drop constraint job_kind_check;
alter table job add constraint job_kind_check check (kind in ('scan', 'run', 'search', 'quota-check', 'save', 'read-bag'));
