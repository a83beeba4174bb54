-- purge_keys removes all versions and delete markers of some keys, for good.
create function purge_keys(p_bucket bigint, p_keys bytea[], p_at timestamptz, p_who text, p_source text)
returns table (objects bigint, bytes bigint, prev bigint, prev_bytes bigint, markers bigint) language plpgsql
set plan_cache_mode = force_generic_plan set enable_seqscan = off set enable_hashjoin = off
  set enable_mergejoin = off as $$
#variable_conflict use_column
begin
  perform pg_advisory_xact_lock_shared(@BucketLock, (p_bucket % 2147483647)::int);
  perform 1 from heads where bucket = p_bucket and key = any(p_keys) order by key for update;
  return query with h as (
    delete from heads where bucket = p_bucket and key = any(p_keys)
      returning key, number, marker, size, tier, body_file, true as head
  ), p as (
    delete from history where bucket = p_bucket and key = any(p_keys)
      returning key, number, marker, size, tier, body_file, false as head
  ), r as (
    delete from revisions where bucket = p_bucket and key = any(p_keys)
  ), x as (
    select * from h union all select * from p
  ), rel as (
    insert into released (tier, file) select distinct tier, body_file from x where body_file <> 0
  ), log as (
    insert into journal (at, kind, bucket, key, number, size, d_objects, d_bytes, d_prev, d_prev_bytes, d_markers,
      d_tiers, who, source, detail)
    select p_at, @VersionRemoved, p_bucket, key, number, size, case when head and not marker then -1 else 0 end, case
      when head and not marker then -size else 0 end,
           case when head or marker then 0 else -1 end, case when head or marker then 0 else -size end, -marker::int,
           case when tier <> 0 then tier_bytes(array[tier], array[-size]) end, p_who, p_source,
           case when marker then '{"marker": true}'::jsonb end from x order by key, number
  )
  select count(*) filter (where head and not marker), coalesce(sum(size) filter (where head), 0)::bigint,
         count(*) filter (where not head and not marker), coalesce(sum(size) filter (where not head), 0)::bigint,
           count(*) filter (where marker) from x;
end $$;
