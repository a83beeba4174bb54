-- +goose Up
-- Jobs that bring one side to another.
create table sync_jobs (
  id            bigint generated always as identity primary key,
  account       bigint not null references accounts,
  name          text not null,
  active        boolean not null default true,   -- it runs by its schedule
  source        jsonb not null,                  -- a folder, or bucket and prefix
  source_at     bigint references endpoints,     -- null: here
  target        jsonb not null,
  target_at     bigint references endpoints,
  spec          jsonb not null,
  secret        bytea,                           -- what keys are made of that seal, sealed; null: nothing is sealed
  next          timestamptz,                     -- when the schedule is due; null: by hand
  source_mark   text not null default '',        -- what the sides were at the last good run
  target_mark   text not null default '',
  revision      integer not null default 1,
  created       timestamptz not null,
  changed       timestamptz not null,            -- by changed_by, with whose rights it runs
  changed_by    text not null,
  changed_from  text not null default '',
  unique (account, name)
);
create index sync_jobs_next on sync_jobs (next) where next is not null;

create table sync_runs (
  id      bigint generated always as identity primary key,
  job     bigint not null references sync_jobs on delete cascade,
  state   text not null,
  who     text not null,
  anyway  boolean not null default false,
  stop    boolean not null default false,
  asked   timestamptz not null,
  started timestamptz,
  ended   timestamptz,
  code    text not null default '',
  says    text not null default '',
  tally   jsonb not null default '{}'
) with (fillfactor = 70);
create index sync_runs_job on sync_runs (job, id desc);
create unique index sync_runs_open on sync_runs (job) where state in ('waiting', 'running', 'asking');

-- What became of each object that is not as it was.
create table sync_outcomes (
  run   bigint not null references sync_runs on delete cascade,
  seq   bigint generated always as identity,
  key   bytea not null,
  deed  text not null,
  why   text not null,
  bytes bigint not null,
  code  text not null default '',
  says  text not null default '',
  primary key (run, seq)
);
create index sync_outcomes_failed on sync_outcomes (run, seq) where code <> '';

-- Uploads of large objects that go on in the next run.
create table sync_uploads (
  job     bigint not null references sync_jobs on delete cascade,
  key     bytea not null,
  content text not null,
  upload  text not null,
  primary key (job, key)
);

-- +goose Down
drop table sync_uploads, sync_outcomes, sync_runs, sync_jobs;
