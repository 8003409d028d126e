-- Who says what a folder is for: the server's marks (RFC 6154), its name, which the user has still to confirm, or the user.
alter table folder add column role_by text check (role_by in ('server', 'name', 'user'));
update folder set role_by = 'server' where role is not null;

-- Whether something changed by which messages are judged, so that the next scan judges them again though nothing came.
alter table account add column unsettled boolean not null default false;
