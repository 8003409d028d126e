-- Mail that was saved elsewhere: a file comes in piece by piece, and is read into a bag then.

alter table bag drop constraint bag_state_check;
alter table bag add constraint bag_state_check check (state in (
  'receiving', 'queued', 'running', 'checking', 'paused', 'done', 'cancelled', 'failed', 'erased'));

create table brought (
  account  bigint not null,
  bag      int not null,
  -- What the file is called, its octets, and how many of these are here.
  name     text not null,
  size     bigint not null,
  received bigint not null default 0,
  -- The mail folder into which its messages go, before those that it names itself; '' for none.
  folder   text not null,
  -- How lines that begin with `From ` are quoted in mbox files (core/brought/quoting): as a person says, and as they are.
  asked    text,
  quoting  text,
  format   text,
  -- How much of it was gone through, from 0 to 1, and files in it that are no mail.
  done     real not null default 0,
  passed   int not null default 0,
  touched_at timestamptz not null default now(),
  primary key (account, bag),
  foreign key (account, bag) references bag on delete cascade
);

-- A message that was brought in, and what the file says of it. Of others the placement that they were read from says that.
create table brought_message (
  account  bigint not null,
  bag      int not null,
  file     bigint not null,
  -- Its place among the messages of the file, from 1.
  ordinal  int not null,
  folder   text not null,
  received timestamptz not null,
  flags    int not null,
  keywords text[] not null,
  category smallint not null,
  -- It is kept as it is, and something of it is missing or can't be read.
  flawed   boolean not null,
  primary key (account, bag, file),
  foreign key (account, bag) references bag on delete cascade
);

create index brought_message_flawed on brought_message (account, bag) where flawed;
create index bag_file_left on bag_file (account, bag) where reason is not null;

alter table job drop constraint job_kind_check;
alter table job add constraint job_kind_check
  check (kind in ('scan', 'run', 'search', 'quota-check', 'save', 'read-bag', 'repair', 'bring-in'));
