-- Everything that committed before this moment stands below the oldest running transaction of any snapshot
-- taken after the call.
create function complete_up_to() returns timestamptz language sql volatile as $$
  select least(clock_timestamp(), min(xact_start)) from pg_stat_activity where backend_xid is not null
    and pid <> pg_backend_pid()
$$;

-- Bytes of a bucket at this moment: what was rolled up and what the journal has since.
create function used_bytes(p_bucket bigint) returns bigint language sql as $$
  select coalesce((select bytes + prev_bytes from usage_now where bucket = p_bucket), 0)
       + coalesce((select sum(j.d_bytes + j.d_prev_bytes) from journal j, followers f
                   where f.name = 'usage' and (j.xid, j.seq) > (f.xid, f.seq) and j.bucket = p_bucket), 0)::bigint
$$;

-- Prefixes of a key that end with a slash, the six shortest.
create function key_prefixes(p_key bytea) returns setof bytea language plpgsql immutable as $$
declare at integer := 0; step integer;
begin
  for i in 1..6 loop
    step := position('\x2f'::bytea in substring(p_key from at + 1));
    exit when step = 0;
    at := at + step;
    return next substring(p_key for at);
  end loop;
end $$;

-- tier_bytes gives what a change adds to the bytes in each tier but the first, of the bytes that come and go
-- where; null for nothing.
create function tier_bytes(p_tiers smallint[], p_bytes bigint[]) returns jsonb language sql immutable as $$
  select jsonb_object_agg(tier, bytes) from (
    select tier, sum(bytes) as bytes from unnest(p_tiers, p_bytes) u(tier, bytes) where tier <> 0
      group by 1 having sum(bytes) <> 0) t
$$;

-- add_usage adds what a stretch of the journal added to usage: from one place, which it does not include, to another.
create function add_usage(p_from_xid xid8, p_from_seq bigint, p_to_xid xid8,
  p_to_seq bigint) returns void language plpgsql as $$
declare
  rest bytea := (select string_agg(set_byte('\x00', 0, b), '') from generate_series(0, 255) b where b <> 47);
begin
  with part as materialized (
    select bucket, (at at time zone 'UTC')::date as day, kind, rtrim(key, rest) as beneath, d_objects, d_bytes, d_prev,
      d_prev_bytes, d_markers, d_tiers from journal
    where (xid, seq) > (p_from_xid, p_from_seq) and (xid, seq) <= (p_to_xid, p_to_seq) and bucket is not null
  ), days as (
    insert into usage_days as u (bucket, day, written, removed, objects, bytes, prev, prev_bytes, markers)
    select bucket, day, count(*) filter (where kind in (@Writes)), count(*) filter (where kind in (@Removes)),
           sum(d_objects), sum(d_bytes), sum(d_prev), sum(d_prev_bytes), sum(d_markers) from part group by 1, 2
             order by 1, 2
    on conflict (bucket, day) do update set written = u.written + excluded.written,
      removed = u.removed + excluded.removed,
      objects = u.objects + excluded.objects, bytes = u.bytes + excluded.bytes, prev = u.prev + excluded.prev,
      prev_bytes = u.prev_bytes + excluded.prev_bytes, markers = u.markers + excluded.markers
  ), beneath as (
    select bucket, beneath, sum(d_objects) as o, sum(d_bytes) as b, sum(d_prev) as p, sum(d_prev_bytes) as pb,
      sum(d_markers) as m
    from part where beneath <> '' group by 1, 2
  ), prefixes as (
    insert into usage_prefixes as u (bucket, prefix, objects, bytes, prev, prev_bytes, markers)
    select bucket, x, sum(o), sum(b), sum(p), sum(pb), sum(m) from beneath cross join lateral key_prefixes(beneath) x
    group by 1, 2 having sum(o) <> 0 or sum(b) <> 0 or sum(p) <> 0 or sum(pb) <> 0 or sum(m) <> 0 order by 1, 2
    on conflict (bucket, prefix) do update set objects = u.objects + excluded.objects,
      bytes = u.bytes + excluded.bytes, prev = u.prev + excluded.prev,
      prev_bytes = u.prev_bytes + excluded.prev_bytes, markers = u.markers + excluded.markers
  ), tiers as (
    insert into usage_tiers as u (bucket, tier, bytes)
    select bucket, t.key::smallint, sum(t.value::bigint) from part cross join lateral jsonb_each_text(d_tiers) t
    where d_tiers is not null group by 1, 2 order by 1, 2
    on conflict (bucket, tier) do update set bytes = u.bytes + excluded.bytes
  )
  insert into usage_now as u (bucket, objects, bytes, prev, prev_bytes, markers)
  select bucket, sum(d_objects), sum(d_bytes), sum(d_prev), sum(d_prev_bytes), sum(d_markers) from part group by 1
    order by 1
  on conflict (bucket) do update set objects = u.objects + excluded.objects, bytes = u.bytes + excluded.bytes,
    prev = u.prev + excluded.prev, prev_bytes = u.prev_bytes + excluded.prev_bytes,
      markers = u.markers + excluded.markers;
end $$;
