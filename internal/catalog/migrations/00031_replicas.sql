-- +goose Up
-- Since when a rule is paused: what changes meanwhile waits.
alter table replications add column paused timestamptz;
-- What happened while these were off is not known: both sides are compared when they go on.
alter table replication_targets add column compare boolean not null default false;
update replications set paused = now() where not active;
update replication_targets t set compare = true from replications r where r.id = t.rule and not r.active;

alter table replicas
  add column changed   timestamptz,                      -- when the key last changed at the source; null: before the rule
  add column overwrite boolean not null default false,   -- somebody decided that it replaces whatever is there
  add column repair    boolean not null default false,   -- it is sent again, although it seems to be there
  add column accepted  bigint not null default 0;        -- the version in whose place what is there was accepted

-- What waited for a paused rule is due as of one moment, and claimed in the order of keys.
drop index replicas_due;
create index replicas_due on replicas (target, due, key) where waiting;

-- +goose Down
select 1/0; -- what waits for paused rules would be lost
