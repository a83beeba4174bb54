-- +goose Up
-- Requests of the wire by bucket, day and who made them.
create table traffic_days (
  bucket    bigint not null,
  day       date not null,
  who       text not null,
  reads     bigint not null default 0,
  writes    bigint not null default 0,
  lists     bigint not null default 0,
  others    bigint not null default 0,
  failed    bigint not null default 0,   -- of all of them
  bytes_in  bigint not null default 0,
  bytes_out bigint not null default 0,
  primary key (bucket, day, who)
) with (fillfactor = 70);

-- +goose Down
drop table traffic_days;
