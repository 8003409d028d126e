-- Where in the archived texts each word stands, so that a phrase is found by the index alone. The words of all bags are read anew.

drop table archived_text;
delete from archived_words;
alter table archived_words
  add column positions bytea not null,
  -- Deflated (RFC 1951).
  add column counts    bytea not null;
-- Parts of it are read.
alter table archived_words alter column positions set storage external, alter column counts set storage external;
update bag set words_to = null, words_at = null, words_partly = 0 where words_at is not null or words_to is not null;
