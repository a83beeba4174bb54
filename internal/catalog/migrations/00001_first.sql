-- +goose Up
-- Keys are bytea: they sort by bytes whatever the collation, and may hold any byte.

create table accounts (
  id      bigint generated always as identity primary key,
  name    text not null unique,
  created timestamptz not null default now()
);

create table access_keys (
  id      text primary key,
  account bigint not null references accounts,
  name    text not null,
  sealed  bytea not null,             -- the secret under the master key
  active  boolean not null default true,
  created timestamptz not null default now()
);

create table sessions (
  token   bytea primary key,          -- SHA-256 of the cookie's token
  key     text not null references access_keys on delete cascade,
  forgery text not null,              -- the token that changes must carry
  created timestamptz not null,
  expires timestamptz not null
);

-- A removed bucket keeps its row, so that the journal can still name it.
create table buckets (
  id         bigint generated always as identity primary key,
  name       text collate "C" not null,
  account    bigint not null references accounts,
  region     text not null,
  versioning smallint not null default 0,   -- 0 off, 1 on, 2 paused
  quota      bigint,                        -- bytes of current and previous versions; null: none
  tags       jsonb not null default '{}',
  created    timestamptz not null,
  created_by text not null,
  removed    timestamptz
);
create unique index buckets_name on buckets (name) where removed is null;

create sequence version_numbers cache 1;

-- The current version of every key, one row a key.
create table heads (
  bucket        bigint not null,
  key           bytea not null,
  number        bigint not null default nextval('version_numbers'),
  revision      integer not null default 1,
  marker        boolean not null default false,
  created       timestamptz not null,
  size          bigint not null,
  md5           bytea not null,
  parts         integer not null default 0,
  crc64         bigint not null,
  checksum_kind smallint not null default 0,
  checksum      bytea,
  tier          smallint not null default 0,
  body_file     bigint not null,            -- 0: no bytes
  body_offset   bigint not null,            -- -1: the whole file
  content_type  text not null default '',
  headers       jsonb,
  metadata      jsonb,
  tags          jsonb,
  written_by    text not null,
  primary key (bucket, key)
) with (fillfactor = 85, autovacuum_vacuum_scale_factor = 0.05, autovacuum_analyze_scale_factor = 0.05);
create index heads_body on heads (body_file) where body_file <> 0;

-- Previous versions, of the same shape.
create table history (like heads including defaults);
alter table history add column replaced timestamptz not null;
alter table history add primary key (bucket, key, number);
create index history_body on history (body_file) where body_file <> 0;

-- Every change, in the order (xid, seq) among committed transactions.
create sequence journal_seq;
create table journal (
  xid        xid8 not null default pg_current_xact_id(),
  seq        bigint not null default nextval('journal_seq'),
  at         timestamptz not null,
  kind       smallint not null,             -- see catalog.EntryKind
  bucket     bigint,
  key        bytea,
  number     bigint,
  size       bigint not null default 0,
  d_objects  integer not null default 0,
  d_bytes    bigint not null default 0,
  d_prev     integer not null default 0,    -- previous versions
  d_prev_bytes bigint not null default 0,
  who        text not null,
  source     text not null default '',
  detail     jsonb
) partition by range (at);
create table journal_rest partition of journal default;  -- clocks far off
create index journal_order on journal (xid, seq);

-- Where each reader of the journal stands.
create table followers (
  name text primary key,
  xid  xid8 not null,
  seq  bigint not null,
  upto timestamptz not null               -- everything that committed before this moment has been read
);

create table usage_now (
  bucket     bigint primary key,
  objects    bigint not null default 0,
  bytes      bigint not null default 0,
  prev       bigint not null default 0,
  prev_bytes bigint not null default 0
) with (fillfactor = 50);

-- What each day added; a figure at a day's end is a running sum.
create table usage_days (
  bucket     bigint not null,
  day        date not null,
  written    bigint not null default 0,
  removed    bigint not null default 0,
  objects    bigint not null default 0,
  bytes      bigint not null default 0,
  prev       bigint not null default 0,
  prev_bytes bigint not null default 0,
  primary key (bucket, day)
) with (fillfactor = 70);

-- Bodies that a version let go of; the collector looks at each after a while.
create table released (
  id   bigint generated always as identity primary key,
  at   timestamptz not null default now(),
  tier smallint not null,
  file bigint not null
);

create table damage (
  tier    smallint not null,
  file    bigint not null,
  place   bigint not null,
  bucket  bigint not null,
  key     bytea not null,
  found   timestamptz not null,
  problem text not null,
  primary key (tier, file, place, bucket, key)
);

-- Background work: who holds it until when, and where it stands.
create table works (
  name   text primary key,
  holder text not null,
  lease  timestamptz not null,
  state  jsonb not null default '{}'
);

-- +goose Down
drop table works, damage, released, usage_days, usage_now, followers, journal, history, heads, buckets, sessions,
  access_keys, accounts;
drop sequence version_numbers, journal_seq;
