-- +goose Up
-- Bodies in pieces: data pieces and parity pieces; null: whole copies.
alter table tiers add column data smallint, add column parity smallint,
  add constraint tiers_pieces check ((data is null) = (parity is null));

-- Bodies that were written with fewer pieces than their tier wants, as a volume was away.
create table owed (
  tier  smallint not null,
  file  bigint not null,
  at    timestamptz not null default clock_timestamp(),
  after timestamptz not null default clock_timestamp(), -- when it is worth another try
  primary key (tier, file)
);
create index owed_after on owed (after);

-- Walks over the bodies of a tier that make missing copies and pieces anew.
create table repairs (
  tier     smallint primary key references tiers on delete cascade,
  why      text not null,
  who      text not null,
  asked    timestamptz not null,
  place    jsonb not null default '{}',    -- that the walk has reached
  bodies   bigint not null default 0,      -- looked at
  bytes    bigint not null default 0,
  made     bigint not null default 0,      -- copies and pieces
  damaged  bigint not null default 0,      -- bodies that nothing gives back
  waiting  bigint not null default 0,      -- bodies that wait for a volume that is away
  after    timestamptz not null,           -- when the walk goes on
  finished timestamptz
);

-- What accounts are offered: ways of keeping the bytes of a bucket.
create table placements (
  id       bigint generated always as identity primary key,
  name     text not null unique,
  note     text not null default '',
  tier     smallint not null references tiers,
  sealing  boolean not null,
  everyone boolean not null,               -- offered to all accounts
  revision integer not null default 1,
  created  timestamptz not null,
  created_by text not null
);
create table placement_accounts (
  placement bigint not null references placements on delete cascade,
  account   bigint not null references accounts on delete cascade,
  primary key (placement, account)
);
alter table accounts add column placement bigint references placements,
  add column placement_fixed boolean not null default false,
  add column placement_by text not null default '';
alter table buckets add column placement bigint references placements;
create index buckets_placement on buckets (placement) where placement is not null;

-- +goose Down
alter table buckets drop column placement;
alter table accounts drop column placement, drop column placement_fixed, drop column placement_by;
drop table placement_accounts;
drop table placements;
drop table repairs;
drop table owed;
alter table tiers drop constraint tiers_pieces, drop column data, drop column parity;
