-- Messages that say that the mailbox is full, and whether they come from its host (core/warnings/judge). No row: not looked at yet.
create table full_warning (
  account   bigint not null references account on delete cascade,
  placement bigint not null,
  judged    jsonb  not null,
  primary key (account, placement)
);
