-- +goose Up
-- Full lists of objects that are written again and again.
create table censuses (
  id            bigint generated always as identity primary key,
  account       bigint not null references accounts on delete cascade,
  name          text not null,
  active        boolean not null default true,   -- it is written by its schedule
  source        jsonb not null,                  -- bucket and prefix; no bucket: all of the account
  target        jsonb not null,
  target_at     bigint references endpoints,     -- null: here
  spec          jsonb not null,
  next          timestamptz,                     -- when the schedule is due; null: when it is asked for
  revision      integer not null default 1,
  created       timestamptz not null,
  changed       timestamptz not null,            -- by changed_by, with whose rights it runs
  changed_by    text not null,
  changed_from  text not null default '',
  unique (account, name)
);
create index censuses_next on censuses (next) where next is not null;

create table census_runs (
  id      bigint generated always as identity primary key,
  census  bigint not null references censuses on delete cascade,
  state   text not null,
  who     text not null,
  stop    boolean not null default false,
  asked   timestamptz not null,
  started timestamptz,
  ended   timestamptz,
  as_of   timestamptz,
  code    text not null default '',
  says    text not null default '',
  result  jsonb not null default '{}'
) with (fillfactor = 70);
create index census_runs_census on census_runs (census, id desc);
create unique index census_runs_open on census_runs (census) where state in ('waiting', 'running');

-- +goose Down
drop table census_runs, censuses;
