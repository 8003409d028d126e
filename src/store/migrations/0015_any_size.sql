-- What a run is doing, what a server said when it refused something, and how often a job was taken.
-- Adds only columns that are null or have a constant default.

alter table run
  -- {"phase": "checking", "messages": 500}
  add column doing   jsonb,
  -- The last refusal of a message of it, in the server's words.
  add column refusal text;
