-- +goose Up
-- Columns of objects, by which find answers without looking at them (see core/columns).
create table find_indexes (
  bucket  bigint primary key,
  ready   boolean not null default false,  -- it was built, and answers
  place   bytea not null default '',       -- how far it is built
  run     bigint not null,                 -- that is being built
  merging bigint[],                        -- runs that are being put together; null: none are
  merged  bytea not null default '',       -- how far
  began   timestamptz not null default now(),
  built   timestamptz
);
create sequence find_runs;

-- A run is a set of segments that do not overlap; what newer runs say of a key hides what
-- older ones say.
create table find_segments (
  id      bigint generated always as identity primary key,
  bucket  bigint not null references find_indexes on delete cascade,
  run     bigint not null,
  live    boolean not null default false,  -- its run is whole
  objects integer not null,
  first   bytea not null,
  last    bytea not null,
  hidden  bytea not null default '',       -- ordinals of which newer runs tell
  bytes   bigint not null                  -- of its columns
);
create index find_segments_bucket on find_segments (bucket, first);

create table find_columns (
  segment bigint not null references find_segments on delete cascade,
  name    text not null,
  head    bytea not null,
  body    bytea not null,
  primary key (segment, name)
);
alter table find_columns alter head set storage external, alter body set storage external;

insert into followers (name, xid, seq, upto)
  select 'find', coalesce(x.xid, '0'), coalesce(x.seq, 0), now() from (select 1) one left join
    (select xid, seq from journal where xid < pg_snapshot_xmin(pg_current_snapshot()) order by xid desc, seq desc limit 1) x on true
  on conflict do nothing;

-- +goose Down
delete from followers where name = 'find';
drop table find_columns, find_segments, find_indexes;
drop sequence find_runs;
