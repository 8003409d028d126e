-- What the index counted of the mail once a scan that began with this reading was done, in octets: what the server's figure holds
-- beyond it is not mail. Null where no scan was done then.
alter table reading add column counted bigint;
