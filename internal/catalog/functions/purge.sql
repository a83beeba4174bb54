-- purge_keys removes all versions and delete markers of some keys, for good. Keys of which something is retained stay
-- as they are: it gives which.
create function purge_keys(p_bucket bigint, p_keys bytea[], p_at timestamptz, p_who text, p_source text)
returns table (objects bigint, bytes bigint, prev bigint, prev_bytes bigint, markers bigint, stay bytea[])
language plpgsql
set plan_cache_mode = force_generic_plan set enable_seqscan = off set enable_hashjoin = off
  set enable_mergejoin = off as $$
#variable_conflict use_column
declare entries entry[]; leaving going[]; going_keys bytea[];
begin
  perform pg_advisory_xact_lock_shared(@BucketLock, (p_bucket % 2147483647)::int);
  perform 1 from heads where bucket = p_bucket and key = any(p_keys) order by key for update;
  select array_agg(distinct key) into stay from (
    select key, number from heads where bucket = p_bucket and key = any(p_keys)
    union all select key, number from history where bucket = p_bucket and key = any(p_keys)) x
    where retained(p_bucket, key, number, p_at);
  stay := coalesce(stay, '{}');
  going_keys := array(select k from unnest(p_keys) k where k <> all(stay));
  with h as (
    delete from heads where bucket = p_bucket and key = any(going_keys)
      returning key, number, revision, marker, size, tier, body_file, true as head
  ), p as (
    delete from history where bucket = p_bucket and key = any(going_keys)
      returning key, number, revision, marker, size, tier, body_file, false as head
  ), x as (
    select * from h union all select * from p order by key, number
  )
  select array_agg(row(p_at, @VersionRemoved, p_bucket, key, number, size,
           case when head and not marker then -1 else 0 end, case when head and not marker then -size else 0 end,
           case when head or marker then 0 else -1 end, case when head or marker then 0 else -size end, -marker::int,
           case when tier <> 0 then tier_bytes(array[tier], array[-size]) end, p_who, p_source,
           case when marker then '{"marker": true}'::jsonb end)::entry),
         array_agg(row(p_bucket, key, number, revision, tier, body_file)::going),
         count(*) filter (where head and not marker), coalesce(sum(size) filter (where head), 0)::bigint,
         count(*) filter (where not head and not marker), coalesce(sum(size) filter (where not head), 0)::bigint,
         count(*) filter (where marker)
    into entries, leaving, objects, bytes, prev, prev_bytes, markers from x;
  perform write_down(entries, leaving);
  return next;
end $$;
