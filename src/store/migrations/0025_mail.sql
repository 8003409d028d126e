-- Whether a bag holds each file by itself, or messages in mbox files (RFC 4155).
alter table bag add column form text not null default 'files' check (form in ('files', 'mbox'));
-- Where a message begins in its mbox file, and the octets that it takes there.
alter table bag_file add column at bigint;
alter table bag_file add column length bigint;
create index bag_file_by_place on bag_file (account, bag, path, at) where at is not null;
