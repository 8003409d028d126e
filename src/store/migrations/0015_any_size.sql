-- What a run is doing, what a server said when it refused something, and how often a job was taken.
-- Adds only columns that are null or have a constant default.

alter table run
  -- {"phase": "checking", "messages": 500}
  add column doing   jsonb,
  -- The last refusal of a message of it, in the server's words.
  add column refusal text;

alter table job
  -- Times in a row that it was taken and neither ended, nor given back, nor got on.
  add column takes int not null default 0,
  -- It has so much to do that only some of that kind are done at a time.
  add column large boolean not null default false;
