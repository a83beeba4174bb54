-- +goose Up
-- Other services of the house.
create table regions (
  id         bigint generated always as identity primary key,
  name       text not null unique,
  desk       text not null,
  wire       text not null,
  service    text not null unique,        -- as it tells itself apart
  note       text not null default '',
  key_id     text not null,               -- of an operator there
  sealed     bytea not null,              -- its secret, under the master key
  revision   integer not null default 1,
  created    timestamptz not null,
  created_by text not null,
  state      text not null default 'not asked',
  since      timestamptz not null default now(),
  seen       timestamptz,
  latency    bigint not null default 0,   -- microseconds
  says       text not null default ''
);

-- Their buckets, and the accounts that are admitted to them, as they told last.
create table region_buckets (
  region  bigint not null references regions on delete cascade,
  name    text not null,
  account text not null,
  created timestamptz not null,
  objects bigint not null,
  bytes   bigint not null,
  primary key (region, name)
);
create index region_buckets_name on region_buckets (name);
create table region_accounts (
  region  bigint not null references regions on delete cascade,
  account text not null,
  primary key (region, account)
);
alter table accounts add column admitted boolean not null default true, -- to this region
  add column home_region text not null default '';                      -- where its buckets are made; '' for here

-- +goose Down
alter table accounts drop column admitted, drop column home_region;
drop table region_accounts;
drop table region_buckets;
drop table regions;
