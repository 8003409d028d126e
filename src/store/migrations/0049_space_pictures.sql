-- How a picture of a file space looks, as picture_look has it of pictures in messages; nulls where it can't be decoded.
alter table space_file add column looked boolean not null default false;
alter table space_file add column look_hash bigint;
alter table space_file add column sharpness real;
alter table space_file add column width int;
alter table space_file add column height int;
