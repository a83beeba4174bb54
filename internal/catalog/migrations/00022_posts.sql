-- +goose Up
-- Addresses outside to which changes are posted. Each is a follower of the journal, named
-- 'post ID'.
create table posts (
  id       bigint generated always as identity primary key,
  account  bigint not null references accounts on delete cascade,
  name     text not null,
  url      text not null,
  active   boolean not null default true,
  bucket   text not null default '',      -- "": all
  prefix   text not null default '',
  kinds    text[] not null default '{}',
  secret   bytea not null,
  revision integer not null default 1,
  created  timestamptz not null,
  who      text not null,
  failed   integer not null default 0,    -- times in a row
  problem  text not null default '',
  posted   timestamptz,
  sent     bigint not null default 0,
  unique (account, name)
);

-- +goose Down
delete from followers where name like 'post %';
drop table posts;
