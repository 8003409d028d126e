-- Runs that save messages into a bag, read it back, and bring to the trash only what was read back as it was.

alter table lot drop constraint lot_fate_check;
alter table lot add constraint lot_fate_check check (fate in ('trash', 'purge', 'strip', 'shrink', 'archive'));

alter table run drop constraint run_action_check;
alter table run add constraint run_action_check check (action in ('trash', 'purge', 'restore', 'strip', 'shrink', 'archive'));
-- The bag that it writes; null where each of its messages lay in one already.
alter table run add column bag int;
create index run_by_bag on run (account, bag) where bag is not null;
