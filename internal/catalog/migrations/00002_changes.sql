-- +goose Up
-- commit_changes applies a batch of changes with distinct keys, ordered by
-- bucket and key, and answers each by its place in the batch:
--   0 done   1 no such bucket   2 exists already   3 another content is there
--   4 nothing is there          5 over quota
-- Kinds: 1 put, 2 remove. A condition is if_absent, or if_match with the MD5
-- and number of parts that must be there.
-- +goose StatementBegin
create function commit_changes(
  p_kind smallint[], p_bucket bigint[], p_key bytea[], p_size bigint[], p_md5 bytea[], p_parts integer[], p_crc64 bigint[],
  p_checksum_kind smallint[], p_checksum bytea[], p_tier smallint[], p_file bigint[], p_offset bigint[],
  p_type text[], p_headers text[], p_metadata text[], p_if_absent boolean[], p_if_match bytea[], p_if_parts integer[],
  p_at timestamptz[], p_who text[], p_source text[])
returns table (place integer, status smallint, number bigint, freed boolean) language plpgsql as $$
#variable_conflict use_column
declare
  n integer := array_length(p_kind, 1);
  done boolean[] := array_fill(false, array[n]);
  q record; h heads%rowtype; i integer; num bigint; room bigint; d_bytes bigint;
  gone bigint[]; tight boolean; same boolean;
begin
  -- Removing a bucket or changing its quota takes this lock alone; buckets with a quota commit one batch at a time.
  select coalesce(bool_or(quota is not null), false) into tight from buckets where id = any(p_bucket);
  if tight then
    perform pg_advisory_xact_lock(7302, (id % 2147483647)::int) from (select distinct unnest(p_bucket) as id order by 1) x;
  else
    perform pg_advisory_xact_lock_shared(7302, (id % 2147483647)::int) from (select distinct unnest(p_bucket) as id order by 1) x;
  end if;
  -- What holds now that we have the locks.
  select coalesce(array_agg(id) filter (where removed is not null), '{}'), tight = coalesce(bool_or(quota is not null), false)
    into gone, same from buckets where id = any(p_bucket);
  if not same then
    raise exception 'a quota was set or taken away meanwhile' using errcode = '40001';
  end if;

  -- New keys of buckets without quota, all in one statement.
  if not tight then
    for q in
      with want as (
        select u.* from unnest(p_kind, p_bucket, p_key, p_size, p_md5, p_parts, p_crc64, p_checksum_kind,
          p_checksum, p_tier, p_file, p_offset, p_type, p_headers, p_metadata, p_if_match, p_at, p_who, p_source) with ordinality
          as u(kind, bucket, key, size, md5, parts, crc64, checksum_kind, checksum, tier, file, place, type, headers, metadata, if_match, at, who, source, i)
      ), ins as (
        insert into heads (bucket, key, created, size, md5, parts, crc64, checksum_kind, checksum, tier, body_file, body_offset,
                           content_type, headers, metadata, written_by)
        select bucket, key, at, size, md5, parts, crc64, checksum_kind, checksum, tier, file, place,
               type, headers::jsonb, metadata::jsonb, who
        from want where kind = 1 and if_match is null and not bucket = any(gone) order by i
        on conflict do nothing
        returning bucket, key, number
      ), log as (
        insert into journal (at, kind, bucket, key, number, size, d_objects, d_bytes, who, source)
        select w.at, 1, w.bucket, w.key, s.number, w.size, 1, w.size, w.who, w.source
        from ins s join want w on w.bucket = s.bucket and w.key = s.key
      )
      select w.i, s.number from ins s join want w on w.bucket = s.bucket and w.key = s.key
    loop
      done[q.i] := true;
      place := q.i::integer; status := 0; number := q.number; freed := false; return next;
    end loop;
  end if;

  for i in 1..n loop
    continue when done[i];
    place := i; number := null; freed := false;
    if p_bucket[i] = any(gone) then status := 1; return next; continue; end if;
    room := null;
    if tight and p_kind[i] = 1 then
      select k.quota - used_bytes(k.id) into room from buckets k where k.id = p_bucket[i] and k.quota is not null;
    end if;
    loop
      select * into h from heads where bucket = p_bucket[i] and key = p_key[i] for update;
      if found then
        if p_if_absent[i] then status := 2; exit; end if;
        if p_if_match[i] is not null and (h.md5 <> p_if_match[i] or h.parts <> p_if_parts[i]) then status := 3; exit; end if;
        if p_kind[i] = 2 then
          delete from heads where bucket = p_bucket[i] and key = p_key[i];
          insert into journal (at, kind, bucket, key, number, size, d_objects, d_bytes, who, source)
            values (p_at[i], 2, p_bucket[i], p_key[i], h.number, h.size, -1, -h.size, p_who[i], p_source[i]);
          number := h.number;
        else
          d_bytes := p_size[i] - h.size;
          if room is not null and d_bytes > room then status := 5; exit; end if;
          num := nextval('version_numbers');
          update heads set number = num, revision = 1, created = p_at[i], size = p_size[i], md5 = p_md5[i], parts = p_parts[i],
            crc64 = p_crc64[i], checksum_kind = p_checksum_kind[i], checksum = p_checksum[i], tier = p_tier[i],
            body_file = p_file[i], body_offset = p_offset[i], content_type = p_type[i], headers = p_headers[i]::jsonb,
            metadata = p_metadata[i]::jsonb, tags = null, written_by = p_who[i]
            where bucket = p_bucket[i] and key = p_key[i];
          insert into journal (at, kind, bucket, key, number, size, d_objects, d_bytes, who, source)
            values (p_at[i], 1, p_bucket[i], p_key[i], num, p_size[i], 0, d_bytes, p_who[i], p_source[i]);
          number := num;
        end if;
        if h.body_file <> 0 and (p_kind[i] = 2 or h.body_file <> p_file[i] or h.body_offset <> p_offset[i]) then
          insert into released (tier, file) values (h.tier, h.body_file);
          freed := true;
        end if;
        status := 0; exit;
      end if;
      if p_if_match[i] is not null then status := 4; exit; end if;
      if p_kind[i] = 2 then status := 0; exit; end if;
      if room is not null and p_size[i] > room then status := 5; exit; end if;
      num := null;
      insert into heads (bucket, key, created, size, md5, parts, crc64, checksum_kind, checksum, tier, body_file, body_offset,
                         content_type, headers, metadata, written_by)
        values (p_bucket[i], p_key[i], p_at[i], p_size[i], p_md5[i], p_parts[i], p_crc64[i], p_checksum_kind[i], p_checksum[i], p_tier[i],
                p_file[i], p_offset[i], p_type[i], p_headers[i]::jsonb, p_metadata[i]::jsonb, p_who[i])
        on conflict do nothing returning number into num;
      if num is not null then
        insert into journal (at, kind, bucket, key, number, size, d_objects, d_bytes, who, source)
          values (p_at[i], 1, p_bucket[i], p_key[i], num, p_size[i], 1, p_size[i], p_who[i], p_source[i]);
        number := num; status := 0; exit;
      end if;
      -- Somebody made the key between the look and the insert: look again.
    end loop;
    return next;
  end loop;
end $$;
-- +goose StatementEnd

-- Bytes of a bucket at this moment: what was rolled up and what the journal has since.
-- +goose StatementBegin
create function used_bytes(p_bucket bigint) returns bigint language sql as $$
  select coalesce((select bytes + prev_bytes from usage_now where bucket = p_bucket), 0)
       + coalesce((select sum(j.d_bytes + j.d_prev_bytes) from journal j, followers f
                   where f.name = 'usage' and (j.xid, j.seq) > (f.xid, f.seq) and j.bucket = p_bucket), 0)::bigint
$$;
-- +goose StatementEnd

-- roll_up_usage moves the usage follower on by at most p_limit entries and says how many it read.
-- +goose StatementBegin
create function roll_up_usage(p_limit integer) returns integer language plpgsql as $$
declare
  f followers%rowtype; horizon xid8; last record; moment timestamptz := clock_timestamp(); n integer;
begin
  select * into f from followers where name = 'usage' for update;
  horizon := pg_snapshot_xmin(pg_current_snapshot());
  select xid, seq, count(*) over () as n into last from (
    select xid, seq from journal where (xid, seq) > (f.xid, f.seq) and xid < horizon order by xid, seq limit p_limit) x
    order by xid desc, seq desc limit 1;
  if not found then
    update followers set upto = moment where name = 'usage';
    return 0;
  end if;
  n := last.n;
  with part as materialized (
    select bucket, (at at time zone 'UTC')::date as day, kind, d_objects, d_bytes, d_prev, d_prev_bytes from journal
    where (xid, seq) > (f.xid, f.seq) and (xid, seq) <= (last.xid, last.seq) and bucket is not null
  ), days as (
    insert into usage_days as u (bucket, day, written, removed, objects, bytes, prev, prev_bytes)
    select bucket, day, count(*) filter (where kind = 1), count(*) filter (where kind = 2),
           sum(d_objects), sum(d_bytes), sum(d_prev), sum(d_prev_bytes) from part group by 1, 2 order by 1, 2
    on conflict (bucket, day) do update set written = u.written + excluded.written, removed = u.removed + excluded.removed,
      objects = u.objects + excluded.objects, bytes = u.bytes + excluded.bytes, prev = u.prev + excluded.prev, prev_bytes = u.prev_bytes + excluded.prev_bytes
  )
  insert into usage_now as u (bucket, objects, bytes, prev, prev_bytes)
  select bucket, sum(d_objects), sum(d_bytes), sum(d_prev), sum(d_prev_bytes) from part group by 1 order by 1
  on conflict (bucket) do update set objects = u.objects + excluded.objects, bytes = u.bytes + excluded.bytes,
    prev = u.prev + excluded.prev, prev_bytes = u.prev_bytes + excluded.prev_bytes;
  update followers set xid = last.xid, seq = last.seq, upto = case when n < p_limit then moment else upto end where name = 'usage';
  return n;
end $$;
-- +goose StatementEnd

-- list_folded gives a page of keys under a prefix in which what follows the delimiter is folded into prefixes.
-- It reads a few keys at a time and seeks past each folded prefix. p_after is exclusive; a folded prefix at or
-- before it is not given again.
-- +goose StatementBegin
create function list_folded(p_bucket bigint, p_prefix bytea, p_delimiter bytea, p_after bytea, p_until bytea, p_max integer)
returns table (key bytea, folded boolean) language plpgsql stable as $$
#variable_conflict use_column
declare
  cursor_key bytea := p_prefix; inclusive boolean := true; r record; at integer; fold bytea; found_any boolean; n integer := 0; step integer := 8;
  plen integer := length(p_prefix);
begin
  if p_after >= p_prefix then
    cursor_key := p_after; inclusive := false;
    at := position(p_delimiter in substring(p_after from plen + 1));
    if substring(p_after for plen) = p_prefix and at > 0 then
      cursor_key := bytes_successor(substring(p_after for plen + at + length(p_delimiter) - 1)); inclusive := true;
      if cursor_key is null then return; end if;
    end if;
  end if;
  while n < p_max loop
    found_any := false; fold := null;
    for r in select h.key from heads h where h.bucket = p_bucket and h.key >= cursor_key and (p_until is null or h.key < p_until)
             and not h.marker order by h.key limit step loop
      continue when not inclusive and r.key = cursor_key;
      found_any := true;
      at := position(p_delimiter in substring(r.key from plen + 1));
      if at > 0 then
        fold := substring(r.key for plen + at + length(p_delimiter) - 1);
        key := fold; folded := true; return next; n := n + 1;
        exit;
      end if;
      key := r.key; folded := false; return next; n := n + 1;
      cursor_key := r.key; inclusive := false;
      exit when n >= p_max;
    end loop;
    if fold is not null then
      cursor_key := bytes_successor(fold); inclusive := true; step := 8;
      if cursor_key is null then return; end if;
    elsif not found_any then
      return;
    else
      step := least(step * 4, 1001);
    end if;
  end loop;
end $$;
-- +goose StatementEnd

-- The least value greater than every one that begins with p; null when there is none.
-- +goose StatementBegin
create function bytes_successor(p bytea) returns bytea language plpgsql immutable strict as $$
begin
  for i in reverse length(p) - 1 .. 0 loop
    if get_byte(p, i) < 255 then
      return set_byte(substring(p for i + 1), i, get_byte(p, i) + 1);
    end if;
  end loop;
  return null;
end $$;
-- +goose StatementEnd

insert into followers (name, xid, seq, upto) values ('usage', '0', 0, now());

-- +goose Down
drop function commit_changes, used_bytes, roll_up_usage, list_folded, bytes_successor;
