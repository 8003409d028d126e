-- Names that say what they hold.
alter table kept_criteria rename to saved_filter;
alter table saved_filter rename column kept_at to saved_at;
alter table refused_suggestion rename to dismissed_suggestion;
alter table dismissed_suggestion rename column refused_at to dismissed_at;
-- The members that the person allows although a guard keeps them. The column of run keeps its name: the ledger has it in
-- the digests of runs that have ended.
alter table lot rename column passed to guard_overrides;

-- The job that scans an account after a while, to see whether the server's quota figure has followed a purge.
alter table job drop constraint job_kind_check;
update job set kind = 'quota-check' where kind = 'look';
alter table job add constraint job_kind_check check (kind in ('scan', 'run', 'search', 'quota-check'));

-- Two categories have new names. Criteria that somebody saved say them; those of runs are on record and stay as they are.
create function renamed_categories(criteria text) returns text language sql immutable as $$
  select regexp_replace(regexp_replace(criteria,
    '(\mcategory\s*!?=\s*"?)machines\M', '\1automatic', 'gi'),
    '(\mcategory\s*!?=\s*"?)dates\M', '\1invitations', 'gi')
$$;
update saved_filter set criteria = renamed_categories(criteria);
update decision set criteria = renamed_categories(criteria);
update guard set criteria = renamed_categories(criteria);
update lot set criteria = renamed_categories(criteria) where run is null;
drop function renamed_categories(text);

-- The last stage of a scan.
alter table scan drop constraint scan_stage_check;
update scan set stage = 'finalizing' where stage = 'settling';
alter table scan add constraint scan_stage_check check (stage in ('level', 'outline', 'details', 'finalizing'));
