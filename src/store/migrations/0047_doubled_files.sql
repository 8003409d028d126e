-- What a file of a file space holds, once it was read to be compared: SHA-256 of its octets; null where it could not be read.
alter table space_file add column read boolean not null default false;
alter table space_file add column sha256 bytea;
create index space_file_by_sha256 on space_file (account, sha256) where sha256 is not null and gone_at is null;

-- A lot may promise that a file space has each file that it takes out.
alter table lot drop constraint lot_promise_check;
alter table lot add constraint lot_promise_check check (promise in ('twins', 'files', 'pictures', 'echoes', 'spaces'));
alter table proof drop constraint proof_what_check;
alter table proof add constraint proof_what_check check (what in ('messages', 'files', 'pictures', 'threads', 'spaces'));
