-- +goose Up
-- Multipart uploads. A completed one stays a while, so that saying complete again gets the same answer.
create table uploads (
  seq           bigint generated always as identity primary key,
  id            text not null unique,         -- as clients know it
  bucket        bigint not null,
  key           bytea not null,
  created       timestamptz not null,
  who           text not null,
  source        text not null default '',
  content_type  text not null default '',
  headers       jsonb,
  metadata      jsonb,
  tags          jsonb,
  checksum_kind smallint not null default 0,  -- 100 more when it is one of the parts' checksums
  state         smallint not null default 0,  -- 0 open, 1 completed, 2 abandoned
  ended         timestamptz,
  number        bigint                        -- of the version it became
);
create index uploads_open on uploads (bucket, key, seq) where state = 0;
create index uploads_ended on uploads (ended) where state <> 0;

-- Parts of uploads, and of the objects they became: a version whose body has the
-- file -seq consists of the parts of upload seq, from their starts.
create table parts (
  upload      bigint not null,
  number      integer not null,
  size        bigint not null,
  md5         bytea not null,
  crc64       bigint not null,
  checksum    bytea,
  tier        smallint not null,
  body_file   bigint not null,
  body_offset bigint not null,
  at          timestamptz not null,
  who         text not null,
  source      text not null default '',
  start       bigint,                         -- in the object; null before it is completed
  primary key (upload, number)
);
create index parts_body on parts (body_file) where body_file <> 0;

-- SHA-256 of the whole of objects that came in parts, worked out in the background.
create table sums (
  upload bigint primary key,
  sha256 bytea not null
);

alter table buckets add column abandon_after integer; -- days after which unfinished uploads are abandoned; null: never

-- +goose Down
select 1/0; -- objects that came in parts could not be read
