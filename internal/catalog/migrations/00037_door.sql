-- +goose Up
-- An entry of the journal that is to be written.
create type entry as (
  at           timestamptz,
  kind         smallint,
  bucket       bigint,
  key          bytea,
  number       bigint,
  size         bigint,
  d_objects    integer,
  d_bytes      bigint,
  d_prev       integer,
  d_prev_bytes bigint,
  d_markers    integer,
  d_tiers      jsonb,
  who          text,
  source       text,
  detail       jsonb
);

-- A version that goes for good, or a body that something lets go of.
create type going as (
  bucket    bigint,
  key       bytea,
  number    bigint,
  revision  integer,                          -- of its metadata; earlier ones go too
  tier      smallint,
  body_file bigint                            -- 0: it has none, or its body stays
);

-- +goose Down
drop type going;
drop type entry;
