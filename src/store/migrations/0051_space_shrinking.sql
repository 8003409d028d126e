-- Pictures of file spaces that are made smaller.
alter table lot drop constraint lot_of_space_check;
alter table lot add constraint lot_of_space_check check (
  (space is null) = (space_files is null)
  and (space is null or (isempty(members) and files is null and fate in ('trash', 'purge', 'shrink'))));

-- The smaller picture that takes the place of a file: its octets, and where it lies until the original has gone to the trash.
alter table run_file add column made_bytes bigint;
alter table run_file add column made_sha256 bytea;
alter table run_file add column staged_path text;
-- The run that put a smaller picture in the place of an original.
alter table space_file add column made_by int;
