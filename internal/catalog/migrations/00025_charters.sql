-- +goose Up
-- What was enacted of charters, and taken back.
create table charters (
  id       bigint generated always as identity primary key,
  account  bigint not null references accounts on delete cascade,
  name     text not null,
  digest   text not null,               -- SHA-256 of its files, in hex
  state    text not null check (state in ('enacting', 'retiring', 'enacted', 'retired', 'stopped')),
  says     text not null default '',    -- why it stopped
  things   jsonb not null,              -- that it answers for
  done     integer not null default 0,  -- steps
  steps    integer not null,
  at       timestamptz not null,
  ended    timestamptz,
  until    timestamptz,                 -- while it is under way: another one may begin after this
  who      text not null,
  source   text not null default ''
);
create index charters_name on charters (account, name, id desc);

-- +goose Down
drop table charters;
