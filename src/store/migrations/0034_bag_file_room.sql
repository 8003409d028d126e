-- Each row is updated once when it was read back. Where its page has room for that, no index has to be (PostgreSQL, HOT).

alter table bag_file set (fillfactor = 50);
