-- +goose Up
-- Settings of buckets are changed as a whole, each time as a revision.
alter table buckets add column revision integer not null default 1;

-- What processes keep in memory, each with a number that changes when it does: they look once a second.
create table marks (
  name  text primary key,
  value bigint not null default 1
) with (fillfactor = 50);
insert into marks (name) values ('grants'), ('keys'), ('buckets'), ('damage');
drop function if exists access_changed cascade;
drop table access_state;

-- +goose Down
select 1/0; -- there is no way back: the service counts changes by marks now
