-- Where a mailbox is opened by somebody who signs in for another: the account of the mailbox itself, whose ledger tells of it.
alter table account add column told bigint references account on delete set null;

-- `opened`: somebody signed in for the owner, and why. `by-other`: what they did there, as their own ledger has it.
alter table ledger_entry drop constraint ledger_entry_kind_check;
alter table ledger_entry add constraint ledger_entry_kind_check
  check (kind in ('asked', 'ended', 'settled', 'bag-held', 'bag-erased', 'opened', 'by-other'));
