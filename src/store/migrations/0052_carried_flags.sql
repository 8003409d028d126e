-- The flags and keywords of its original that a replacement got, the last time they were read: what another program changed on the
-- original since is what differs from these. Null where they were never noted.
alter table run_rewrite add column flags int, add column keywords text[];
