-- Bags that nobody can delete before a day, and what the ledger says of bags.

alter table bag
  add column held_until  date,
  add column held_reason text;
alter table bag add constraint bag_held_check check ((held_until is null) = (held_reason is null));

-- An entry about a bag is of no run: its number is 0.
alter table ledger_entry drop constraint ledger_entry_kind_check;
alter table ledger_entry add constraint ledger_entry_kind_check
  check (kind in ('asked', 'ended', 'settled', 'bag-held', 'bag-erased'));
