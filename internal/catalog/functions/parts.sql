-- put_part keeps a part of an open upload, in place of one of the same number. It gives the upload's seq,
-- null when there is none.
create function put_part(p_id text, p_bucket bigint, p_key bytea, p_number integer, p_size bigint, p_md5 bytea,
  p_crc64 bigint, p_checksum bytea,
  p_tier smallint, p_file bigint, p_offset bigint, p_at timestamptz, p_who text,
    p_source text) returns bigint language plpgsql as $$
declare u bigint; old parts%rowtype;
begin
  select seq into u from uploads where id = p_id and bucket = p_bucket and key = p_key
    and state = @UploadOpen for share;
  if not found then return null; end if;
  loop
    select * into old from parts where upload = u and number = p_number for update;
    if found then
      update parts set size = p_size, md5 = p_md5, crc64 = p_crc64, checksum = p_checksum, tier = p_tier,
        body_file = p_file, body_offset = p_offset,
        at = p_at, who = p_who, source = p_source where upload = u and number = p_number;
      perform let_go(old.tier, old.body_file);
      return u;
    end if;
    insert into parts (upload, number, size, md5, crc64, checksum, tier, body_file, body_offset, at, who, source)
      values (u, p_number, p_size, p_md5, p_crc64, p_checksum, p_tier, p_file, p_offset, p_at, p_who, p_source)
        on conflict do nothing;
    if found then return u; end if;
  end loop;
end $$;

-- drop_parts lets go of the bodies of parts that no object refers to, and forgets the parts.
create function drop_parts(p_upload bigint, p_unused_only boolean) returns void language sql as $$
  with gone as (
    delete from parts where upload = p_upload and (not p_unused_only or start is null) returning tier, body_file
  )
  select write_down(null, array_agg(row(null, null, null, 1, tier, body_file)::going)) from gone
$$;
