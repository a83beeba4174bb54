-- +goose Up
-- A plain version was written while its bucket's versioning was off or paused:
-- a key has at most one, and its version is called "null" on the wire.
alter table heads add column plain boolean not null default true, add column source text not null default '';
alter table heads alter column plain set default false;
alter table history add column plain boolean not null default true, add column source text not null default '';
alter table history alter column plain set default false;

-- Every key that has a version has its latest in heads, be it a delete marker.
-- Listings walk the live ones alone.
create index heads_live on heads (bucket, key) where not marker;
create unique index history_plain on history (bucket, key) where plain;

-- Versions of a key come newest first.
alter table history drop constraint history_pkey;
create unique index history_versions on history (bucket, key, number desc);

-- What a version's metadata was before each change of it.
create table revisions (
  bucket       bigint not null,
  key          bytea not null,
  number       bigint not null,
  revision     integer not null,        -- the one that is kept here
  until        timestamptz not null,    -- when the next one replaced it
  content_type text not null,
  headers      jsonb,
  metadata     jsonb,
  tags         jsonb,
  who          text not null,           -- of the change that replaced it
  source       text not null,
  primary key (bucket, key, number, revision)
);

-- Where versions came from that were not put: restores, copies, renames.
create table lineage (
  how         smallint not null,        -- a kind of journal entry: restored, renamed, copied
  at          timestamptz not null,
  who         text not null,
  from_bucket bigint not null,
  from_key    bytea not null,
  from_number bigint not null,
  to_bucket   bigint not null,
  to_key      bytea not null,
  to_number   bigint not null
);
create index lineage_to on lineage (to_bucket, to_key, to_number);
create index lineage_from on lineage (from_bucket, from_key, from_number);

alter table journal add column d_markers integer not null default 0;
alter table usage_now add column markers bigint not null default 0;
alter table usage_days add column markers bigint not null default 0;

-- Usage beneath every prefix that ends with a slash, six levels deep.
create table usage_prefixes (
  bucket     bigint not null,
  prefix     bytea not null,
  objects    bigint not null default 0,
  bytes      bigint not null default 0,
  prev       bigint not null default 0,
  prev_bytes bigint not null default 0,
  markers    bigint not null default 0,
  primary key (bucket, prefix)
) with (fillfactor = 70);

-- The journal holds everything since the beginning: usage is counted anew, now by prefix too.
truncate usage_now, usage_days;
update followers set xid = '0', seq = 0 where name = 'usage';

-- Orders given to the service that take a while: renames and restores of a whole prefix.
create table orders (
  id       bigint generated always as identity primary key,
  kind     text not null,
  bucket   bigint not null,
  what     jsonb not null,
  state    text not null,                -- running, stopped, done, failed
  progress jsonb not null default '{}',
  problem  text not null default '',
  who      text not null,
  source   text not null,
  created  timestamptz not null,
  changed  timestamptz not null
);
create index orders_running on orders (id) where state = 'running';

-- +goose Down
select 1/0; -- there is no way back to a schema without versions
