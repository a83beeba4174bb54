-- replicate_due has what changed in a stretch of the journal wait at the targets of the rules of its buckets: one
-- row a key and target, whatever happened to the key. It gives how many rows there were. What changes while a rule is
-- paused waits as well, all of it as of the moment of the pause, so that it comes in the order of keys afterwards.
create function replicate_due(p_xid xid8, p_seq bigint, p_to_xid xid8, p_to_seq bigint) returns bigint
language plpgsql set plan_cache_mode = force_custom_plan as $$
declare n bigint;
begin
  insert into replicas as r (target, key, waiting, seq, since, bytes, due, changed)
  select t.id, j.key, true, max(j.seq), min(j.at), coalesce((array_agg(j.size order by j.seq desc))[1], 0),
    coalesce(max(p.paused), clock_timestamp()), max(j.at)
  from journal j join replications p on p.bucket = j.bucket join replication_targets t on t.rule = p.id
  where (j.xid, j.seq) > (p_xid, p_seq) and (j.xid, j.seq) <= (p_to_xid, p_to_seq)
    and j.kind in (@Writes, @Removes, @ObjectAnnotated, @VersionRemoved)
    and substr(j.key, 1, length(p.prefix)) = p.prefix
  group by t.id, j.key order by t.id, j.key
  on conflict (target, key) do update set waiting = true, seq = excluded.seq, bytes = excluded.bytes, due = excluded.due,
    changed = excluded.changed, overwrite = false,
    since = case when r.waiting then r.since else excluded.since end;
  get diagnostics n = row_count;
  return n;
end $$;

-- replicas_done writes down what came to be at a target for claimed keys, by place of the arrays. What was claimed
-- anew meanwhile is done again, from the beginning: the late one may have written over the newer.
create function replicas_done(p_target bigint, p_keys bytea[], p_turns bigint[], p_seqs bigint[], p_numbers bigint[],
  p_revisions integer[], p_gone boolean[], p_etags text[], p_versions text[]) returns void
language plpgsql set plan_cache_mode = force_custom_plan set enable_seqscan = off set enable_hashjoin = off
  set enable_mergejoin = off as $$
begin
  -- Each key is looked up by itself (the offset keeps it so), whatever the planner knows of the target.
  with w as materialized (
    select i.*, x.tid, x.is_turn, x.is_seq from unnest(p_keys, p_turns, p_seqs, p_numbers, p_revisions, p_gone, p_etags,
      p_versions) i(key, turn, seq, number, revision, gone, etag, version)
    cross join lateral (select r.ctid as tid, r.turn as is_turn, r.seq as is_seq from replicas r
      where r.target = p_target and r.key = i.key for update offset 0) x
  ), nothing as (
    delete from replicas r using w where r.ctid = w.tid and w.is_turn = w.turn and w.is_seq = w.seq and w.number = 0
  )
  update replicas r set number = case when r.turn = w.turn then w.number else 0 end, revision = w.revision, gone = w.gone,
    etag = w.etag, version = w.version, confirmed = clock_timestamp(), waiting = r.turn <> w.turn or r.seq <> w.seq,
    since = case when r.turn = w.turn and r.seq = w.seq then null else coalesce(r.since, clock_timestamp()) end,
    due = clock_timestamp(), until = case when r.turn = w.turn then null else r.until end,
    attempts = 0, code = '', says = '', upload = '',
    overwrite = r.overwrite and (r.turn <> w.turn or r.seq <> w.seq),
    repair = r.repair and (r.turn <> w.turn or r.seq <> w.seq)
  from w where r.ctid = w.tid and not (w.is_turn = w.turn and w.is_seq = w.seq and w.number = 0);
end $$;

-- replicas_held moves the end of claims, null to give them up; those that are not held any more stay.
create function replicas_held(p_target bigint, p_keys bytea[], p_turns bigint[], p_until timestamptz) returns void
language sql as $$
  update replicas r set until = p_until from (
    select x.tid from unnest(p_keys, p_turns) i(key, turn) cross join lateral (select r.ctid as tid from replicas r
      where r.target = p_target and r.key = i.key and r.turn = i.turn and r.until is not null for update offset 0) x
  ) w where r.ctid = w.tid;
$$;

-- backfill_due has the objects of a bucket wait at a target that are not there as they are, from a key on, at most so
-- many keys looked at. It gives the last key looked at, null at the end, and how many wait now that did not.
create function backfill_due(p_target bigint, p_bucket bigint, p_prefix bytea, p_after bytea, p_limit integer,
  out last bytea, out asked bigint) language plpgsql set plan_cache_mode = force_custom_plan set enable_seqscan = off
  set enable_hashjoin = off set enable_mergejoin = off as $$
begin
  with page as materialized (
    select h.key, h.number, h.revision, h.size from heads h
    where h.bucket = p_bucket and h.key > p_after and h.key >= p_prefix and not h.marker order by h.key limit p_limit
  ), mine as (
    select * from page where substr(key, 1, length(p_prefix)) = p_prefix
  ), put as (
    insert into replicas as r (target, key, waiting, since, bytes, due)
    select p_target, m.key, true, clock_timestamp(), m.size, clock_timestamp() from mine m
    left join lateral (select 1 as there from replicas x where x.target = p_target and x.key = m.key
      and (x.waiting or x.number = m.number and x.revision = m.revision and not x.gone) offset 0) x on true
    where x.there is null order by m.key
    on conflict (target, key) do update set waiting = true, since = coalesce(r.since, excluded.since),
      bytes = excluded.bytes, due = excluded.due
    returning 1
  )
  select case when (select count(*) from mine) < p_limit then null else (select key from mine order by key desc limit 1) end,
    (select count(*) from put) into last, asked;
end $$;

-- backfill_gone has keys wait at a target that were copied there and have no object at the source any more, from a key
-- on; it gives what backfill_due gives.
create function backfill_gone(p_target bigint, p_bucket bigint, p_after bytea, p_limit integer,
  out last bytea, out asked bigint) language plpgsql set plan_cache_mode = force_custom_plan as $$
begin
  with page as materialized (
    select key, number, gone, waiting from replicas where target = p_target and key > p_after order by key limit p_limit
  ), put as (
    update replicas r set waiting = true, since = clock_timestamp(), due = clock_timestamp() from page p
    where r.target = p_target and r.key = p.key and not p.waiting and not p.gone and p.number > 0
      and not exists (select 1 from heads h where h.bucket = p_bucket and h.key = p.key and not h.marker)
    returning 1
  )
  select case when (select count(*) from page) < p_limit then null else (select key from page order by key desc limit 1)
    end, (select count(*) from put) into last, asked;
end $$;
