-- +goose Up
-- What an entry added to the bytes in each tier but the first, by its number; null when it touched none.
alter table journal add column d_tiers jsonb;

-- Bytes of current and previous versions in each tier but the first; what is not in these is in that.
create table usage_tiers (
  bucket bigint not null,
  tier   smallint not null,
  bytes  bigint not null default 0,
  primary key (bucket, tier)
) with (fillfactor = 50);

-- +goose Down
drop table usage_tiers;
alter table journal drop column d_tiers;
