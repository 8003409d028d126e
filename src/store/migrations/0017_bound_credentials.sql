-- Whose a mailbox is, by who signs in; credentials that open for their mailbox alone; attempts that are counted at once.

-- Who signs in where that is another than the user ('' where not): a host that ignores that the two differ gives an operator's
-- mailbox under the name of whoever was asked for.
alter table account add column sign_in_as text not null default '';
alter table account drop constraint account_host_port_user_name_key;
alter table account add unique (host, port, user_name, sign_in_as);

-- What was sealed before was bound to the number of the account alone, so that whoever could write to the database could have
-- it sent anywhere. It opens no more: everybody signs in once again.
delete from credential;
delete from withdrawal;
-- For what it was sealed, which says where it is to be taken back.
alter table withdrawal add column owner text not null;
alter table withdrawal drop column host;
