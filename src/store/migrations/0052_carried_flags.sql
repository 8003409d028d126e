-- The flags and keywords of the original when they were last copied to the replacement. What differs from them now was changed by
-- another program since. Null if they were never recorded.
alter table run_rewrite add column flags int, add column keywords text[];
