-- +goose Up
-- Questions of find that an account keeps under names.
create table saved_finds (
  account    bigint not null references accounts on delete cascade,
  name       text not null,
  expression text not null,
  buckets    text[] not null default '{}',
  versions   boolean not null default false,
  saved      timestamptz not null,
  saved_by   text not null,
  primary key (account, name)
);

-- +goose Down
drop table saved_finds;
