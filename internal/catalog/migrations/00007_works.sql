-- +goose Up
-- Work that can be trusted: every claim has a number of its own, which whatever is saved must still carry.
alter table works
  add column turn bigint not null default 0,          -- of the claim: greater is later
  add column due  timestamptz not null default now(); -- the next run, whichever process makes it
delete from works where name like 'order %';

alter table orders
  add column attempts integer not null default 0,     -- that failed, since something was done last
  add column due timestamptz not null default now();  -- the next one
-- Counters have names of their own in the progress of an order.
update orders set progress = (progress - array['renamed', 'restored', 'removed', 'unchanged',
  'converted']) || jsonb_build_object('counts',
  coalesce((select jsonb_object_agg(key, value) from jsonb_each(progress)
    where key in ('renamed', 'restored', 'removed', 'unchanged', 'converted')), '{}'::jsonb));
drop index orders_running;
create index orders_due on orders (kind, due) where state = 'running';

-- Many small things to do, each of one subject, with a time before which it is not done.
create table tasks (
  id       bigint generated always as identity primary key,
  kind     text not null,
  subject  bytea not null,                            -- what it is about: tasks of one subject are done in their order
  what     jsonb not null default '{}',
  due      timestamptz not null default now(),
  attempts integer not null default 0,
  turn     bigint not null default 0,                 -- of the claim
  until    timestamptz,                               -- the claim's end
  fault    text not null default '',                  -- why the last attempt failed
  made     timestamptz not null default now()
) with (fillfactor = 70, autovacuum_vacuum_scale_factor = 0.02, autovacuum_vacuum_cost_delay = 0);
create index tasks_due on tasks (kind, due, id);
create index tasks_subject on tasks (kind, subject, id);

-- Followers of the journal by name; retention waits for the slowest.
alter table followers add column moved timestamptz not null default now();

-- +goose Down
alter table followers drop column moved;
drop table tasks;
drop index orders_due;
create index orders_running on orders (id) where state = 'running';
alter table orders drop column attempts, drop column due;
alter table works drop column turn, drop column due;
