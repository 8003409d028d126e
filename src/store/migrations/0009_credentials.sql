-- What is sealed is a document of how to sign in; before there was one it was the password alone.
alter table credential
  add column form text not null default 'password' check (form in ('password', 'document'));
