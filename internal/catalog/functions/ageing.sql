-- remove_due removes versions of a bucket that its rules judged, by key and number, whose heads the caller has
-- locked: current ones of a bucket without versions, or (p_previous) previous ones, for good. What is retained stays;
-- the caller knows it from the same look.
create function remove_due(p_bucket bigint, p_keys bytea[], p_numbers bigint[], p_rules text[], p_run bigint,
  p_previous boolean, p_at timestamptz, p_who text) returns void language plpgsql as $$
declare entries entry[]; leaving going[];
begin
  with want as (
    select * from unnest(p_keys, p_numbers, p_rules) with ordinality w(key, number, rule, place)
    where not retained(p_bucket, key, number, p_at)
  ), h as (
    delete from heads v using want w where not p_previous and v.bucket = p_bucket and v.key = w.key
      and v.number = w.number and not v.marker
    returning v.key, v.number, v.revision, v.marker, v.size, v.tier, v.body_file, w.rule, w.place
  ), p as (
    delete from history v using want w where p_previous and v.bucket = p_bucket and v.key = w.key
      and v.number = w.number
    returning v.key, v.number, v.revision, v.marker, v.size, v.tier, v.body_file, w.rule, w.place
  ), gone as (
    select * from h union all select * from p
  )
  select array_agg(row(p_at, case when p_previous then @VersionRemoved else @ObjectRemoved end, p_bucket, key, number,
           size, -(not p_previous)::int, case when p_previous then 0 else -size end,
           -(p_previous and not marker)::int, case when p_previous then -size else 0 end, -marker::int,
           case when tier <> 0 then tier_bytes(array[tier], array[-size]) end, p_who, '',
           jsonb_build_object('rule', rule, 'run', p_run)
             || case when marker then '{"marker": true}' else '{}' end::jsonb)::entry order by place),
         array_agg(row(p_bucket, key, number, revision, tier, body_file)::going)
    into entries, leaving from gone;
  perform write_down(entries, leaving);
end $$;

-- move_bodies has versions of a bucket lie elsewhere, those that are what they were: number, revision (0: whatever it
-- is) and body. It gives the places, from 1, of those that were switched.
create function move_bodies(p_bucket bigint, p_keys bytea[], p_numbers bigint[], p_revisions integer[],
  p_from_tiers smallint[], p_from_files bigint[], p_from_offsets bigint[], p_tiers smallint[], p_files bigint[],
  p_offsets bigint[], p_rules text[], p_run bigint, p_at timestamptz, p_who text, p_source text) returns setof integer
language plpgsql set plan_cache_mode = force_custom_plan as $$
declare entries entry[]; leaving going[]; places integer[];
begin
  perform 1 from heads where bucket = p_bucket and key = any(p_keys) order by key for update;
  with want as materialized (
    select * from unnest(p_keys, p_numbers, p_revisions, p_from_tiers, p_from_files, p_from_offsets, p_tiers, p_files,
      p_offsets, p_rules) with ordinality
      w(key, number, revision, from_tier, from_file, from_offset, tier, file, "offset", rule, place)
  ), h as (
    update heads x set tier = w.tier, body_file = w.file, body_offset = w."offset" from want w
    where x.bucket = p_bucket and x.key = w.key and x.number = w.number and w.revision in (0, x.revision)
      and x.tier = w.from_tier and x.body_file = w.from_file and x.body_offset = w.from_offset
    returning w.place, x.size
  ), p as (
    update history x set tier = w.tier, body_file = w.file, body_offset = w."offset" from want w
    where x.bucket = p_bucket and x.key = w.key and x.number = w.number and w.revision in (0, x.revision)
      and x.tier = w.from_tier and x.body_file = w.from_file and x.body_offset = w.from_offset
    returning w.place, x.size
  ), moved as (
    select w.*, m.size from (select * from h union all select * from p) m join want w on w.place = m.place
  )
  select array_agg(row(p_at, @VersionMoved, p_bucket, key, number, size, 0, 0, 0, 0, 0,
           tier_bytes(array[from_tier, tier], array[-size, size]), p_who, p_source,
           jsonb_strip_nulls(jsonb_build_object('from', (select t.name from tiers t where t.id = from_tier),
             'to', (select t.name from tiers t where t.id = moved.tier), 'rule', nullif(rule, ''),
             'run', nullif(p_run, 0))))::entry order by place),
         array_agg(row(p_bucket, key, number, 1, from_tier, from_file)::going), array_agg(place::integer)
    into entries, leaving, places from moved;
  perform write_down(entries, leaving);
  return query select unnest(places);
end $$;
