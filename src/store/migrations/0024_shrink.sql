-- Making pictures smaller: lots and runs that replace a message with one in which pictures have fewer octets.

alter table lot drop constraint lot_fate_check;
alter table lot add constraint lot_fate_check check (fate in ('trash', 'purge', 'strip', 'shrink'));
-- How the pictures of a shrink lot are made smaller (core/files/shrinking).
alter table lot add column shrinking jsonb;
alter table lot add constraint lot_shrinking_check check ((fate = 'shrink') = (shrinking is not null));

alter table run drop constraint run_action_check;
alter table run add constraint run_action_check check (action in ('trash', 'purge', 'restore', 'strip', 'shrink'));
alter table run add column shrinking jsonb;

alter table run_left drop constraint run_left_reason_check;
alter table run_left add constraint run_left_reason_check check (reason in (
  'guarded', 'held', 'vanished', 'moved', 'changed', 'no-room', 'refused', 'read-only', 'folder-gone', 'cancelled', 'unknown',
  'signed', 'encrypted', 'malformed', 'alternative', 'unchecked', 'differs', 'no-gain', 'not-decoded'));
