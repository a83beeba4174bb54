-- +goose Up
-- What this service is told apart by from others, whatever its address.
create table service (id text not null, one boolean primary key default true check (one));

-- Other stores, with the keys that accounts have there.
create table endpoints (
  id         bigint generated always as identity primary key,
  account    bigint not null references accounts,
  name       text not null,
  url        text not null,
  region     text not null,
  style      text not null,
  key_id     text not null,
  sealed     bytea not null,                     -- the secret, under the master key
  note       text not null default '',
  bandwidth  bigint not null default 0,          -- bytes a second; 0: no limit
  probe      text not null default '',           -- the bucket that checks look at
  revision   integer not null default 1,
  created    timestamptz not null,
  created_by text not null,
  state      text not null default 'not checked',
  since      timestamptz not null default now(),
  checked    timestamptz,
  latency    bigint not null default 0,          -- microseconds
  field      text not null default '',
  says       text not null default '',
  remedy     text not null default '',
  abilities  jsonb not null default '{}',
  unique (account, name)
) with (fillfactor = 70);

-- Rules that keep objects of a bucket copied elsewhere.
create table replications (
  id         bigint generated always as identity primary key,
  bucket     bigint not null references buckets,
  account    bigint not null references accounts,
  name       text not null,
  active     boolean not null default true,
  priority   integer not null,
  prefix     bytea not null default '',
  tags       jsonb,
  markers    boolean not null,                   -- delete markers travel
  removals   boolean not null,                   -- removals that leave nothing travel
  onward     boolean not null,                   -- what is a replica here travels on
  lag_share  double precision not null default 0,            -- of objects that are to be copied within lag_within; 0: none is promised
  lag_within bigint not null default 0,          -- milliseconds
  first      bigint not null,                    -- version number: what is older was there before the rule
  revision   integer not null default 1,
  created    timestamptz not null,
  changed    timestamptz not null,               -- by created_by, with whose rights it acts
  created_by text not null,
  source     text not null default '',
  unique (account, name)
);
create index replications_bucket on replications (bucket);

-- Where they are copied to: a bucket here, or at an endpoint.
create table replication_targets (
  id         bigint generated always as identity primary key,
  rule       bigint not null references replications on delete cascade,
  endpoint   bigint references endpoints,
  bucket     text not null,
  prefix     bytea not null default '',
  class      text not null default '',           -- tier here, class there
  sealed     boolean not null default false,
  made       text not null default '',           -- when the bucket there was made, as it says; '': not known
  since      timestamptz,                        -- since when it fails; null: it does not
  code       text not null default '',           -- why
  says       text not null default '',
  backfill   smallint not null default 0,        -- 0 none, 1 under way, 2 done
  place      bytea,                              -- how far the backfill has come
  asked      bigint not null default 0,          -- objects that the backfill has asked for
  verified   timestamptz,                        -- when both sides were last found equal
  verify     jsonb                               -- the last comparison of both sides
) with (fillfactor = 70);
create index replication_targets_rule on replication_targets (rule);
create index replication_targets_endpoint on replication_targets (endpoint);

-- What is known of each key at each target: what was confirmed there, and what waits.
create table replicas (
  target    bigint not null,
  key       bytea not null,
  number    bigint not null default 0,           -- the version that is there; 0: none is
  revision  integer not null default 0,          -- of its metadata
  gone      boolean not null default false,      -- the removal of the version was confirmed, or its delete marker is there
  etag      text not null default '',            -- there
  version   text not null default '',            -- its id there
  confirmed timestamptz,
  waiting   boolean not null,
  seq       bigint not null default 0,           -- of the journal's entry that it waits for
  since     timestamptz,                         -- of the oldest change that waits
  bytes     bigint not null default 0,           -- that are to be sent, as far as is known
  due       timestamptz,
  attempts  integer not null default 0,
  turn      bigint not null default 0,           -- of the claim
  until     timestamptz,                         -- the claim's end
  upload    text not null default '',            -- an upload there that goes on
  code      text not null default '',            -- why the last attempt failed
  says      text not null default '',
  primary key (target, key)
) with (fillfactor = 70, autovacuum_vacuum_scale_factor = 0.02, autovacuum_vacuum_cost_delay = 0);
create index replicas_due on replicas (target, due) where waiting;

-- How long changes waited for their replicas, by minute: slot n counts those below 2^n milliseconds.
create table replication_lags (
  target bigint not null,
  at     timestamptz not null,
  counts integer[] not null,
  bytes  bigint not null,
  primary key (target, at)
);

insert into marks (name) values ('endpoints'), ('replications');

-- +goose Down
select 1/0; -- secrets of endpoints would be lost
