-- The kind of problem that the last refusal of a message of a run was. Adds only a column that is null.

alter table run
  -- A kind of MailProblem; those kept before were all of one kind.
  add column refusal_kind text;

update run set refusal_kind = 'command-refused' where refusal is not null;
