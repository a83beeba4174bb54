-- +goose Up
-- Functions are kept in catalog/functions and made anew when their text changed: what each file made last.
create table functions (
  file   text primary key,
  digest bytea not null,                      -- SHA-256 of its text
  makes  text[] not null                      -- names of its functions
);
drop function if exists roll_up_usage;

-- Previous versions have the columns of heads in their order, and when they were replaced.
alter table history rename to history_before;
create table history (like heads including defaults);
alter table history add column replaced timestamptz not null;
insert into history (bucket, key, number, revision, marker, created, size, md5, parts, crc64, checksum_kind, checksum,
  tier,
                     body_file, body_offset, content_type, headers, metadata, tags, written_by, plain, source, replaced)
  select bucket, key, number, revision, marker, created, size, md5, parts, crc64, checksum_kind, checksum, tier,
         body_file, body_offset, content_type, headers, metadata, tags, written_by, plain, source, replaced
           from history_before;
drop table history_before;
create index history_body on history (body_file) where body_file <> 0;
create unique index history_plain on history (bucket, key) where plain;
create unique index history_versions on history (bucket, key, number desc);

-- One change of one key, as the service hands it to commit_changes.
create type change as (
  kind          smallint,                     -- of journal entry
  bucket        bigint,
  key           bytea,
  number        bigint,                       -- of the version that it is about; null: the current one
  revision      integer,                      -- only if this is the revision; null: whatever it is
  if_absent     boolean,                      -- only if nothing is there
  if_md5        bytea,                        -- only if this content is there
  if_parts      integer,
  at            timestamptz,
  size          bigint,
  md5           bytea,
  parts         integer,
  crc64         bigint,
  checksum_kind smallint,
  checksum      bytea,
  tier          smallint,
  body_file     bigint,
  body_offset   bigint,
  content_type  text,
  headers       jsonb,
  metadata      jsonb,
  tags          jsonb,
  who           text,
  source        text,
  detail        jsonb                         -- for the journal
);

-- +goose Down
select 1/0; -- there is no way back: functions are made by the service now
