-- journal_horizon gives the place below which the journal is complete: that of the oldest
-- transaction under way.
create function journal_horizon() returns xid8 language sql stable as $$
  select (pg_snapshot_xmin(pg_current_snapshot())::text::bigint + base)::text::xid8 from journal_base
$$;

-- journal_known gives which places of the journal are known now, as a snapshot.
create function journal_known() returns pg_snapshot language sql stable as $$
  select ((pg_snapshot_xmin(s)::text::bigint + base) || ':' || (pg_snapshot_xmax(s)::text::bigint + base) || ':'
    || coalesce((select string_agg((x::text::bigint + base)::text, ',' order by x) from pg_snapshot_xip(s) x), ''))::pg_snapshot
  from journal_base, (select pg_current_snapshot() as s) now
$$;

-- journal_last gives the greatest place that anybody holds: of an entry, a follower, or what a
-- post knew when it was made.
create function journal_last() returns bigint language sql stable as $$
  select greatest(
    coalesce((select xid::text::bigint from journal order by xid desc, seq desc limit 1), 0),
    coalesce((select max(xid::text::bigint) from followers), 0),
    coalesce((select max(pg_snapshot_xmax(since)::text::bigint) from posts), 0))
$$;
