-- remove_due removes versions of a bucket that its rules judged, by key and number, whose heads the caller has
-- locked: current ones of a bucket without versions, or (p_previous) previous ones, for good. It gives how many
-- there were.
create function remove_due(p_bucket bigint, p_keys bytea[], p_numbers bigint[], p_rules text[], p_run bigint,
  p_previous boolean, p_at timestamptz, p_who text) returns bigint language plpgsql as $$
declare n bigint;
begin
  if p_previous then
    with gone as (
      delete from history p using unnest(p_keys, p_numbers, p_rules) w(key, number, rule)
      where p.bucket = p_bucket and p.key = w.key and p.number = w.number
      returning p.key, p.number, p.revision, p.marker, p.size, p.tier, p.body_file, w.rule
    ), log as (
      insert into journal (at, kind, bucket, key, number, size, d_prev, d_prev_bytes, d_markers, d_tiers, who, detail)
      select p_at, @VersionRemoved, p_bucket, key, number, size, -(not marker)::int, -size, -marker::int,
        case when tier <> 0 then tier_bytes(array[tier], array[-size]) end, p_who,
        jsonb_build_object('rule', rule, 'run', p_run) || case when marker then '{"marker": true}' else '{}' end::jsonb
      from gone
    ), rel as (
      insert into released (tier, file) select tier, body_file from gone where body_file <> 0
    ), rev as (
      delete from revisions r using gone g where g.revision > 1 and r.bucket = p_bucket and r.key = g.key
        and r.number = g.number
    )
    select count(*) into n from gone;
  else
    with gone as (
      delete from heads h using unnest(p_keys, p_numbers, p_rules) w(key, number, rule)
      where h.bucket = p_bucket and h.key = w.key and h.number = w.number and not h.marker
      returning h.key, h.number, h.revision, h.size, h.tier, h.body_file, w.rule
    ), log as (
      insert into journal (at, kind, bucket, key, number, size, d_objects, d_bytes, d_tiers, who, detail)
      select p_at, @ObjectRemoved, p_bucket, key, number, size, -1, -size,
        case when tier <> 0 then tier_bytes(array[tier], array[-size]) end, p_who,
        jsonb_build_object('rule', rule, 'run', p_run)
      from gone
    ), rel as (
      insert into released (tier, file) select tier, body_file from gone where body_file <> 0
    ), rev as (
      delete from revisions r using gone g where g.revision > 1 and r.bucket = p_bucket and r.key = g.key
        and r.number = g.number
    )
    select count(*) into n from gone;
  end if;
  return n;
end $$;

-- move_bodies has versions of a bucket lie elsewhere, those that are what they were: number, revision and body. It
-- gives the places, from 1, of those that were switched.
create function move_bodies(p_bucket bigint, p_keys bytea[], p_numbers bigint[], p_revisions integer[],
  p_from_tiers smallint[], p_from_files bigint[], p_from_offsets bigint[], p_tiers smallint[], p_files bigint[],
  p_offsets bigint[], p_rules text[], p_run bigint, p_at timestamptz, p_who text) returns setof integer
language plpgsql set plan_cache_mode = force_custom_plan as $$
begin
  perform 1 from heads where bucket = p_bucket and key = any(p_keys) order by key for update;
  return query
  with want as materialized (
    select * from unnest(p_keys, p_numbers, p_revisions, p_from_tiers, p_from_files, p_from_offsets, p_tiers, p_files,
      p_offsets, p_rules) with ordinality
      w(key, number, revision, from_tier, from_file, from_offset, tier, file, "offset", rule, place)
  ), h as (
    update heads x set tier = w.tier, body_file = w.file, body_offset = w."offset" from want w
    where x.bucket = p_bucket and x.key = w.key and x.number = w.number and x.revision = w.revision
      and x.tier = w.from_tier and x.body_file = w.from_file and x.body_offset = w.from_offset
    returning w.place, x.size
  ), p as (
    update history x set tier = w.tier, body_file = w.file, body_offset = w."offset" from want w
    where x.bucket = p_bucket and x.key = w.key and x.number = w.number and x.revision = w.revision
      and x.tier = w.from_tier and x.body_file = w.from_file and x.body_offset = w.from_offset
    returning w.place, x.size
  ), moved as (
    select w.*, m.size from (select * from h union all select * from p) m join want w on w.place = m.place
  ), log as (
    insert into journal (at, kind, bucket, key, number, size, d_tiers, who, detail)
    select p_at, @VersionMoved, p_bucket, key, number, size,
      tier_bytes(array[from_tier, tier], array[-size, size]), p_who,
      jsonb_build_object('from', (select t.name from tiers t where t.id = from_tier),
        'to', (select t.name from tiers t where t.id = moved.tier), 'rule', rule, 'run', p_run)
    from moved
  ), rel as (
    insert into released (tier, file) select from_tier, from_file from moved where from_file <> 0
  )
  select place::integer from moved;
end $$;
