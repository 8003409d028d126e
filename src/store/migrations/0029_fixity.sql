-- Reading bags again, and repairing what fell.

alter table bag
  -- Somebody wants every octet read again now.
  add column read_asked    boolean not null default false,
  -- Since when it is being read again; null while it is not. What has a later checked_at was read since.
  add column reading_since timestamptz,
  -- Files of the bag besides what was saved (its manifests and index) that are not what they were.
  add column tags_damaged  text[] not null default '{}';
create index bag_due on bag (checked_at) where place = 'here' and state = 'done';

alter table job drop constraint job_kind_check;
alter table job add constraint job_kind_check
  check (kind in ('scan', 'run', 'search', 'quota-check', 'save', 'read-bag', 'repair'));
