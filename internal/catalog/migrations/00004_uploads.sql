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

-- put_part keeps a part of an open upload, in place of one of the same number. It gives the upload's seq, null when there is none.
-- +goose StatementBegin
create function put_part(p_id text, p_bucket bigint, p_key bytea, p_number integer, p_size bigint, p_md5 bytea, p_crc64 bigint, p_checksum bytea,
  p_tier smallint, p_file bigint, p_offset bigint, p_at timestamptz, p_who text, p_source text) returns bigint language plpgsql as $$
declare u bigint; old parts%rowtype;
begin
  select seq into u from uploads where id = p_id and bucket = p_bucket and key = p_key and state = 0 for share;
  if not found then return null; end if;
  loop
    select * into old from parts where upload = u and number = p_number for update;
    if found then
      update parts set size = p_size, md5 = p_md5, crc64 = p_crc64, checksum = p_checksum, tier = p_tier, body_file = p_file, body_offset = p_offset,
        at = p_at, who = p_who, source = p_source where upload = u and number = p_number;
      if old.body_file <> 0 then insert into released (tier, file) values (old.tier, old.body_file); end if;
      return u;
    end if;
    insert into parts (upload, number, size, md5, crc64, checksum, tier, body_file, body_offset, at, who, source)
      values (u, p_number, p_size, p_md5, p_crc64, p_checksum, p_tier, p_file, p_offset, p_at, p_who, p_source) on conflict do nothing;
    if found then return u; end if;
  end loop;
end $$;
-- +goose StatementEnd

-- drop_parts lets go of the bodies of parts that no object refers to, and forgets the parts.
-- +goose StatementBegin
create function drop_parts(p_upload bigint, p_unused_only boolean) returns void language sql as $$
  with gone as (
    delete from parts where upload = p_upload and (not p_unused_only or start is null) returning tier, body_file
  )
  insert into released (tier, file) select tier, body_file from gone where body_file <> 0
$$;
-- +goose StatementEnd

alter table buckets add column abandon_after integer; -- days after which unfinished uploads are abandoned; null: never

-- +goose Down
select 1/0; -- objects that came in parts could not be read
