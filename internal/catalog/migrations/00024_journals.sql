-- +goose Up
-- What accounts keep under names: questions of find, filters of the journal.
create table saved (
  account  bigint not null references accounts on delete cascade,
  of       text not null check (of in ('find', 'journal')),
  name     text not null,
  says     jsonb not null,
  saved    timestamptz not null,
  saved_by text not null,
  primary key (account, of, name)
);
insert into saved select account, 'find', name, jsonb_build_object('expression', expression, 'buckets', buckets,
  'versions', versions), saved, saved_by from saved_finds;
drop table saved_finds;

alter table buckets add column journal_days integer not null default 0, -- 0: as the service says
  add column journal_paused boolean not null default false;

-- What the journal of a bucket leaves out: what is older than it is kept, and what changed
-- while it was paused. Entries in a gap go when every follower has read them.
create table journal_gaps (
  bucket  bigint not null,
  since   timestamptz not null,
  until   timestamptz,                 -- null: it goes on
  cleared timestamptz not null,        -- what is in the gap before this moment is gone
  primary key (bucket, since)
);

-- +goose Down
drop table journal_gaps;
alter table buckets drop column journal_days, drop column journal_paused;
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
insert into saved_finds select account, name, says ->> 'expression',
  array(select jsonb_array_elements_text(coalesce(says -> 'buckets', '[]'))), coalesce((says ->> 'versions')::boolean, false),
  saved, saved_by from saved where of = 'find';
drop table saved;
