-- +goose Up
-- A volume may be a bucket at an endpoint, or what is beneath a prefix in it; dir is empty then.
alter table volumes
  add column endpoint bigint references endpoints,
  add column bucket   text not null default '',
  add column prefix   text not null default '';
create unique index volumes_place on volumes (endpoint, bucket, prefix) where endpoint is not null;

-- +goose Down
select 1/0; -- bodies may be there, which nobody would find any more
