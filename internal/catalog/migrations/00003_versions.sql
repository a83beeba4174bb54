-- +goose Up
-- A plain version was written while its bucket's versioning was off or paused:
-- a key has at most one, and its version is called "null" on the wire.
alter table heads add column plain boolean not null default true, add column source text not null default '';
alter table heads alter column plain set default false;
alter table history add column plain boolean not null default true, add column source text not null default '';
alter table history alter column plain set default false;

-- Every key that has a version has its latest in heads, be it a delete marker.
-- Listings walk the live ones alone.
create index heads_live on heads (bucket, key) where not marker;
create unique index history_plain on history (bucket, key) where plain;

-- Versions of a key come newest first.
alter table history drop constraint history_pkey;
create unique index history_versions on history (bucket, key, number desc);

-- What a version's metadata was before each change of it.
create table revisions (
  bucket       bigint not null,
  key          bytea not null,
  number       bigint not null,
  revision     integer not null,        -- the one that is kept here
  until        timestamptz not null,    -- when the next one replaced it
  content_type text not null,
  headers      jsonb,
  metadata     jsonb,
  tags         jsonb,
  who          text not null,           -- of the change that replaced it
  source       text not null,
  primary key (bucket, key, number, revision)
);

-- Where versions came from that were not put: restores, copies, renames.
create table lineage (
  how         smallint not null,        -- a kind of journal entry: restored, renamed, copied
  at          timestamptz not null,
  who         text not null,
  from_bucket bigint not null,
  from_key    bytea not null,
  from_number bigint not null,
  to_bucket   bigint not null,
  to_key      bytea not null,
  to_number   bigint not null
);
create index lineage_to on lineage (to_bucket, to_key, to_number);
create index lineage_from on lineage (from_bucket, from_key, from_number);

alter table journal add column d_markers integer not null default 0;
alter table usage_now add column markers bigint not null default 0;
alter table usage_days add column markers bigint not null default 0;

-- Usage beneath every prefix that ends with a slash, six levels deep.
create table usage_prefixes (
  bucket     bigint not null,
  prefix     bytea not null,
  objects    bigint not null default 0,
  bytes      bigint not null default 0,
  prev       bigint not null default 0,
  prev_bytes bigint not null default 0,
  markers    bigint not null default 0,
  primary key (bucket, prefix)
) with (fillfactor = 70);

-- Prefixes of a key that end with a slash, the six shortest.
-- +goose StatementBegin
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
-- +goose StatementEnd

-- Everything that committed before this moment stands below the oldest running transaction of any snapshot taken after the call.
create function complete_up_to() returns timestamptz language sql volatile as $$
  select least(clock_timestamp(), min(xact_start)) from pg_stat_activity where backend_xid is not null and pid <> pg_backend_pid()
$$;

drop function roll_up_usage;
-- roll_up_usage moves the usage follower on by at most p_limit entries and says how many it read.
-- +goose StatementBegin
create function roll_up_usage(p_limit integer) returns integer language plpgsql as $$
declare
  f followers%rowtype; horizon xid8; last record; moment timestamptz := complete_up_to(); n integer;
  rest bytea := (select string_agg(set_byte('\x00', 0, b), '') from generate_series(0, 255) b where b <> 47);
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
    select bucket, (at at time zone 'UTC')::date as day, kind, rtrim(key, rest) as beneath, d_objects, d_bytes, d_prev, d_prev_bytes, d_markers from journal
    where (xid, seq) > (f.xid, f.seq) and (xid, seq) <= (last.xid, last.seq) and bucket is not null
  ), days as (
    insert into usage_days as u (bucket, day, written, removed, objects, bytes, prev, prev_bytes, markers)
    select bucket, day, count(*) filter (where kind in (1, 6, 7, 8)), count(*) filter (where kind in (2, 3, 9)),
           sum(d_objects), sum(d_bytes), sum(d_prev), sum(d_prev_bytes), sum(d_markers) from part group by 1, 2 order by 1, 2
    on conflict (bucket, day) do update set written = u.written + excluded.written, removed = u.removed + excluded.removed,
      objects = u.objects + excluded.objects, bytes = u.bytes + excluded.bytes, prev = u.prev + excluded.prev,
      prev_bytes = u.prev_bytes + excluded.prev_bytes, markers = u.markers + excluded.markers
  ), beneath as (
    select bucket, beneath, sum(d_objects) as o, sum(d_bytes) as b, sum(d_prev) as p, sum(d_prev_bytes) as pb, sum(d_markers) as m
    from part where beneath <> '' group by 1, 2
  ), prefixes as (
    insert into usage_prefixes as u (bucket, prefix, objects, bytes, prev, prev_bytes, markers)
    select bucket, x, sum(o), sum(b), sum(p), sum(pb), sum(m) from beneath cross join lateral key_prefixes(beneath) x
    group by 1, 2 having sum(o) <> 0 or sum(b) <> 0 or sum(p) <> 0 or sum(pb) <> 0 or sum(m) <> 0 order by 1, 2
    on conflict (bucket, prefix) do update set objects = u.objects + excluded.objects, bytes = u.bytes + excluded.bytes, prev = u.prev + excluded.prev,
      prev_bytes = u.prev_bytes + excluded.prev_bytes, markers = u.markers + excluded.markers
  )
  insert into usage_now as u (bucket, objects, bytes, prev, prev_bytes, markers)
  select bucket, sum(d_objects), sum(d_bytes), sum(d_prev), sum(d_prev_bytes), sum(d_markers) from part group by 1 order by 1
  on conflict (bucket) do update set objects = u.objects + excluded.objects, bytes = u.bytes + excluded.bytes,
    prev = u.prev + excluded.prev, prev_bytes = u.prev_bytes + excluded.prev_bytes, markers = u.markers + excluded.markers;
  update followers set xid = last.xid, seq = last.seq, upto = case when n < p_limit then moment else upto end where name = 'usage';
  return n;
end $$;
-- +goose StatementEnd

-- The journal holds everything since the beginning: usage is counted anew, now by prefix too.
truncate usage_now, usage_days;
update followers set xid = '0', seq = 0 where name = 'usage';

drop function commit_changes;
-- commit_changes applies a batch of changes with distinct keys, ordered by
-- bucket and key, and answers each by its place in the batch:
--   0 done   1 no such bucket   2 exists already   3 another content is there
--   4 nothing is there          5 over quota       6 no such version
--   7 a delete marker           8 another revision is there (in revision)
-- Kinds are those of the journal: 1 put, 6 restored, 7 renamed, 8 copied write a
-- version; 2 and 9 (renamed away) remove the current one; 4 removes the version
-- p_number for good (-1: the plain one); 5 changes the metadata of p_number, or
-- of the current version. A condition is if_absent, or if_match with the MD5 and
-- number of parts that must be there. Arrays that no change of the batch needs
-- are null. What can be is done for the whole batch in one statement; when a
-- row changes between a statement's view and its lock that fails with 40001, and
-- the caller tries again with p_careful: one by one, locked before it is read.
-- +goose StatementBegin
create function commit_changes(
  p_kind smallint[], p_bucket bigint[], p_key bytea[], p_size bigint[], p_md5 bytea[], p_parts integer[], p_crc64 bigint[],
  p_checksum_kind smallint[], p_checksum bytea[], p_tier smallint[], p_file bigint[], p_offset bigint[],
  p_type text[], p_headers text[], p_metadata text[], p_tags text[], p_if_absent boolean[], p_if_match bytea[], p_if_parts integer[],
  p_number bigint[], p_revision integer[], p_detail text[], p_at timestamptz[], p_who text[], p_source text[], p_careful boolean)
returns table (place integer, status smallint, mode smallint, number bigint, revision integer, marker boolean, freed boolean) language plpgsql
set plan_cache_mode = force_generic_plan set enable_seqscan = off set enable_hashjoin = off set enable_mergejoin = off as $$
#variable_conflict use_column
declare
  n integer := array_length(p_kind, 1);
  done boolean[] := array_fill(false, array[n]);
  left_over integer := n; any_put boolean := p_kind && '{1,6,7,8}'; any_note boolean := 5 = any(p_kind);
  q record; h heads%rowtype; x history%rowtype; i integer; room bigint; d bigint; m smallint;
  gone bigint[]; kept bigint[]; paused bigint[]; tight boolean; same boolean; writes boolean; archived boolean; stays boolean;
  d_objects integer; d_bytes bigint; d_prev integer; d_prev_bytes bigint; d_markers integer; k smallint; size_of bigint;
begin
  -- Removing a bucket or changing its settings takes this lock alone; buckets with a quota commit one batch at a time.
  select coalesce(bool_or(quota is not null), false) into tight from buckets where id = any(p_bucket);
  if tight then
    perform pg_advisory_xact_lock(7302, (id % 2147483647)::int) from (select distinct unnest(p_bucket) as id order by 1) b;
  else
    perform pg_advisory_xact_lock_shared(7302, (id % 2147483647)::int) from (select distinct unnest(p_bucket) as id order by 1) b;
  end if;
  -- What holds now that we have the locks.
  select coalesce(array_agg(id) filter (where removed is not null), '{}'), coalesce(array_agg(id) filter (where versioning = 1), '{}'),
         coalesce(array_agg(id) filter (where versioning = 2), '{}'), tight = coalesce(bool_or(quota is not null), false)
    into gone, kept, paused, same from buckets where id = any(p_bucket);
  if not same then
    raise exception 'a quota was set or taken away meanwhile' using errcode = '40001';
  end if;

  if not tight and any_put then
    -- New keys, all in one statement.
    for q in
      with want as (
        select u.* from unnest(p_kind, p_bucket, p_key, p_size, p_md5, p_parts, p_crc64, p_checksum_kind,
          p_checksum, p_tier, p_file, p_offset, p_type, p_headers, p_metadata, p_tags, p_if_match, p_at, p_who, p_source, p_detail) with ordinality
          as u(kind, bucket, key, size, md5, parts, crc64, checksum_kind, checksum, tier, file, place, type, headers, metadata, tags, if_match, at, who, source, detail, i)
      ), ins as (
        insert into heads (bucket, key, created, size, md5, parts, crc64, checksum_kind, checksum, tier, body_file, body_offset,
                           content_type, headers, metadata, tags, written_by, source, plain)
        select bucket, key, at, size, md5, parts, crc64, checksum_kind, checksum, tier, file, place,
               type, headers::jsonb, metadata::jsonb, tags::jsonb, who, source, not bucket = any(kept)
        from want where kind in (1, 6, 7, 8) and if_match is null and not bucket = any(gone) order by i
        on conflict do nothing
        returning bucket, key, number
      ), log as (
        insert into journal (at, kind, bucket, key, number, size, d_objects, d_bytes, who, source, detail)
        select w.at, w.kind, w.bucket, w.key, s.number, w.size, 1, w.size, w.who, w.source, w.detail::jsonb
        from ins s join want w on w.bucket = s.bucket and w.key = s.key
      )
      select w.i, w.bucket, s.number from ins s join want w on w.bucket = s.bucket and w.key = s.key
    loop
      done[q.i] := true; left_over := left_over - 1;
      place := q.i::integer; status := 0; number := q.number; revision := 1; marker := false; freed := false;
      mode := case when q.bucket = any(kept) then 1 when q.bucket = any(paused) then 2 else 0 end;
      return next;
    end loop;

    -- Keys that are there, without conditions.
    if left_over > 0 and not p_careful then
        for q in
          with want as materialized (
            select u.*, h.*, case when u.w_bucket = any(kept) then 1 when u.w_bucket = any(paused) then 2 else 0 end as w_mode
            from unnest(done, p_if_absent, p_if_match, p_kind, p_bucket, p_key, p_size, p_md5, p_parts, p_crc64, p_checksum_kind, p_checksum, p_tier, p_file, p_offset,
                        p_type, p_headers, p_metadata, p_tags, p_at, p_who, p_source, p_detail) with ordinality
              as u(done, if_absent, if_match, kind, w_bucket, w_key, w_size, w_md5, w_parts, w_crc64, w_checksum_kind, w_checksum, w_tier, w_file, w_offset,
                   w_type, w_headers, w_metadata, w_tags, at, who, w_source, detail, i)
            cross join lateral (select *, ctid as place from heads where bucket = u.w_bucket and key = u.w_key limit 1 for update) h
            where not u.done and u.kind in (1, 6, 7, 8) and u.if_match is null and not coalesce(u.if_absent, false) and not u.w_bucket = any(gone)
          ), arch as (
            insert into history (bucket, key, number, revision, marker, created, size, md5, parts, crc64, checksum_kind, checksum, tier, body_file,
                                 body_offset, content_type, headers, metadata, tags, written_by, source, plain, replaced)
            select bucket, key, number, revision, marker, created, size, md5, parts, crc64, checksum_kind, checksum, tier, body_file,
                   body_offset, content_type, headers, metadata, tags, written_by, source, plain, at
            from want where w_mode = 1 or not plain
          ), dropped as (
            delete from history p using want w where w.w_mode = 2 and p.bucket = w.bucket and p.key = w.key and p.plain
            returning w.i, p.bucket, p.key, p.number, p.revision, p.marker, p.size, p.tier, p.body_file
          ), rel as (
            insert into released (tier, file)
            select tier, body_file from want where w_mode <> 1 and plain and body_file <> 0 and (body_file <> w_file or body_offset <> w_offset)
            union all select tier, body_file from dropped where body_file <> 0
            returning file
          ), rev as (
            delete from revisions r using (
              select bucket, key, number from want where w_mode <> 1 and plain and revision > 1
              union all select bucket, key, number from dropped where revision > 1) g
            where r.bucket = g.bucket and r.key = g.key and r.number = g.number
          ), upd as (
            update heads h set number = nextval('version_numbers'), revision = 1, marker = false, created = w.at, size = w.w_size, md5 = w.w_md5, parts = w.w_parts,
              crc64 = w.w_crc64, checksum_kind = w.w_checksum_kind, checksum = w.w_checksum, tier = w.w_tier, body_file = w.w_file,
              body_offset = w.w_offset, content_type = w.w_type, headers = w.w_headers::jsonb, metadata = w.w_metadata::jsonb, tags = w.w_tags::jsonb,
              written_by = w.who, source = w.w_source, plain = w.w_mode <> 1
            from want w where h.ctid = w.place
            returning w.i, h.number
          ), log as (
            insert into journal (at, kind, bucket, key, number, size, d_objects, d_bytes, d_prev, d_prev_bytes, d_markers, who, source, detail)
            select w.at, w.kind, w.bucket, w.key, u.number, w.w_size, w.marker::int, w.w_size - case when w.marker then 0 else w.size end,
                   (a.yes and not w.marker)::int - (g.marker is false)::int,
                   case when a.yes and not w.marker then w.size else 0 end - coalesce(g.size, 0),
                   -(w.marker and not a.yes)::int - coalesce(g.marker, false)::int, w.who, w.w_source, w.detail::jsonb
            from upd u join want w on w.i = u.i cross join lateral (select w.w_mode = 1 or not w.plain as yes) a left join dropped g on g.i = w.i
          )
          select w.i, w.w_mode, u.number, w.w_mode <> 1 and w.plain and w.body_file <> 0 as freed from want w left join upd u on w.i = u.i
        loop
          if q.number is null then raise exception 'a key changed while it was locked' using errcode = '40001'; end if;
          done[q.i] := true; left_over := left_over - 1;
          place := q.i::integer; status := 0; number := q.number; revision := 1; marker := false; freed := q.freed; mode := q.w_mode;
          return next;
        end loop;
    end if;
  end if;

  -- Metadata of current versions, at the revision that was read.
  if any_note and not p_careful and not tight then
    for q in
      with want as materialized (
        select u.*, h.*, case when u.w_bucket = any(kept) then 1 when u.w_bucket = any(paused) then 2 else 0 end as w_mode
        from unnest(p_kind, p_bucket, p_key, p_number, p_revision, p_type, p_headers, p_metadata, p_tags, p_at, p_who, p_source, p_detail) with ordinality
          as u(kind, w_bucket, w_key, w_number, w_revision, w_type, w_headers, w_metadata, w_tags, at, who, w_source, detail, i)
        cross join lateral (select bucket, key, number, revision, size, content_type, headers, metadata, tags, ctid as place from heads
          where bucket = u.w_bucket and key = u.w_key and number = u.w_number and revision = u.w_revision and not marker limit 1 for update) h
        where u.kind = 5 and not u.w_bucket = any(gone)
      ), rev as (
        insert into revisions (bucket, key, number, revision, until, content_type, headers, metadata, tags, who, source)
        select bucket, key, number, revision, at, content_type, headers, metadata, tags, who, w_source from want
      ), upd as (
        update heads h set revision = w.revision + 1, content_type = w.w_type, headers = w.w_headers::jsonb, metadata = w.w_metadata::jsonb, tags = w.w_tags::jsonb
        from want w where h.ctid = w.place returning w.i
      ), log as (
        insert into journal (at, kind, bucket, key, number, size, who, source, detail)
        select at, 5, bucket, key, number, size, who, w_source, coalesce(detail::jsonb, '{}') || jsonb_build_object('revision', revision + 1) from want
      )
      select w.i, w.w_mode, w.number, w.revision + 1 as revision, u.i is not null as hit from want w left join upd u on u.i = w.i
    loop
      if not q.hit then raise exception 'a key changed while it was locked' using errcode = '40001'; end if;
      done[q.i] := true; left_over := left_over - 1;
      place := q.i::integer; status := 0; number := q.number; revision := q.revision; marker := false; freed := false; mode := q.w_mode;
      return next;
    end loop;
  end if;
  if left_over = 0 then return; end if;

  for i in 1..n loop
    continue when done[i];
    k := p_kind[i]; writes := k in (1, 6, 7, 8);
    m := case when p_bucket[i] = any(kept) then 1 when p_bucket[i] = any(paused) then 2 else 0 end;
    place := i; mode := m; number := null; revision := null; marker := false; freed := false; status := 0;
    if p_bucket[i] = any(gone) then status := 1; return next; continue; end if;
    room := null;
    if tight and writes then
      select b.quota - used_bytes(b.id) into room from buckets b where b.id = p_bucket[i] and b.quota is not null;
    end if;
    loop
      select * into h from heads where bucket = p_bucket[i] and key = p_key[i] for update;
      stays := found;

      if k = 5 then -- metadata
        if not stays then status := case when p_number[i] is null then 4 else 6 end; exit; end if;
        if p_number[i] is null or h.number = p_number[i] or p_number[i] = -1 and h.plain then
          if h.marker then status := 7; exit; end if;
          if p_revision[i] is not null and h.revision <> p_revision[i] then status := 8; number := h.number; revision := h.revision; exit; end if;
          insert into revisions values (h.bucket, h.key, h.number, h.revision, p_at[i], h.content_type, h.headers, h.metadata, h.tags, p_who[i], p_source[i]);
          update heads set revision = h.revision + 1, content_type = p_type[i], headers = p_headers[i]::jsonb, metadata = p_metadata[i]::jsonb, tags = p_tags[i]::jsonb
            where bucket = h.bucket and key = h.key;
          number := h.number; revision := h.revision + 1; size_of := h.size;
        else
          select * into x from history where bucket = p_bucket[i] and key = p_key[i] and (number = p_number[i] or p_number[i] = -1 and plain) for update;
          if not found then status := 6; exit; end if;
          if x.marker then status := 7; exit; end if;
          if p_revision[i] is not null and x.revision <> p_revision[i] then status := 8; number := x.number; revision := x.revision; exit; end if;
          insert into revisions values (x.bucket, x.key, x.number, x.revision, p_at[i], x.content_type, x.headers, x.metadata, x.tags, p_who[i], p_source[i]);
          update history set revision = x.revision + 1, content_type = p_type[i], headers = p_headers[i]::jsonb, metadata = p_metadata[i]::jsonb, tags = p_tags[i]::jsonb
            where bucket = x.bucket and key = x.key and number = x.number;
          number := x.number; revision := x.revision + 1; size_of := x.size;
        end if;
        insert into journal (at, kind, bucket, key, number, size, who, source, detail)
          values (p_at[i], 5, p_bucket[i], p_key[i], number, size_of, p_who[i], p_source[i],
                  coalesce(p_detail[i]::jsonb, '{}') || jsonb_build_object('revision', revision));
        exit;
      end if;

      if k = 4 then -- a version, for good
        if not stays then status := 6; exit; end if;
        d_objects := 0; d_bytes := 0; d_prev := 0; d_prev_bytes := 0; d_markers := 0;
        if h.number = p_number[i] or p_number[i] = -1 and h.plain then
          delete from heads where bucket = h.bucket and key = h.key;
          if h.marker then d_markers := -1; else d_objects := -1; d_bytes := -h.size; end if;
          -- The one before it becomes current.
          delete from history where (bucket, key, number) = (select bucket, key, number from history
            where bucket = h.bucket and key = h.key order by number desc limit 1) returning * into x;
          if found then
            insert into heads (bucket, key, number, revision, marker, created, size, md5, parts, crc64, checksum_kind, checksum, tier, body_file,
                               body_offset, content_type, headers, metadata, tags, written_by, source, plain)
            values (x.bucket, x.key, x.number, x.revision, x.marker, x.created, x.size, x.md5, x.parts, x.crc64, x.checksum_kind, x.checksum, x.tier, x.body_file,
                    x.body_offset, x.content_type, x.headers, x.metadata, x.tags, x.written_by, x.source, x.plain);
            if not x.marker then
              d_objects := d_objects + 1; d_bytes := d_bytes + x.size; d_prev := -1; d_prev_bytes := -x.size;
            end if;
          end if;
          number := h.number; revision := h.revision; marker := h.marker; size_of := h.size;
          if h.body_file <> 0 then insert into released (tier, file) values (h.tier, h.body_file); freed := true; end if;
        else
          delete from history where bucket = p_bucket[i] and key = p_key[i] and (number = p_number[i] or p_number[i] = -1 and plain) returning * into x;
          if not found then status := 6; exit; end if;
          if x.marker then d_markers := -1; else d_prev := -1; d_prev_bytes := -x.size; end if;
          number := x.number; revision := x.revision; marker := x.marker; size_of := x.size;
          if x.body_file <> 0 then insert into released (tier, file) values (x.tier, x.body_file); freed := true; end if;
        end if;
        if revision > 1 then delete from revisions r where r.bucket = p_bucket[i] and r.key = p_key[i] and r.number = commit_changes.number; end if;
        insert into journal (at, kind, bucket, key, number, size, d_objects, d_bytes, d_prev, d_prev_bytes, d_markers, who, source, detail)
          values (p_at[i], 4, p_bucket[i], p_key[i], number, size_of, d_objects, d_bytes, d_prev, d_prev_bytes, d_markers, p_who[i], p_source[i],
                  case when marker then '{"marker": true}'::jsonb end);
        exit;
      end if;

      -- A version is written, or the current one removed.
      if stays and not h.marker then
        if coalesce(p_if_absent[i], false) then status := 2; exit; end if;
        if p_if_match[i] is not null and (h.md5 <> p_if_match[i] or h.parts <> p_if_parts[i]) then status := 3; exit; end if;
      elsif p_if_match[i] is not null then status := 4; exit;
      end if;
      if not writes and m = 0 and not stays then exit; end if; -- nothing to remove

      if not stays then
        if room is not null and p_size[i] > room then status := 5; exit; end if;
        insert into heads (bucket, key, created, size, md5, parts, crc64, checksum_kind, checksum, tier, body_file, body_offset,
                           content_type, headers, metadata, tags, written_by, source, plain, marker)
          values (p_bucket[i], p_key[i], p_at[i], p_size[i], p_md5[i], p_parts[i], p_crc64[i], p_checksum_kind[i], p_checksum[i], p_tier[i],
                  p_file[i], p_offset[i], p_type[i], p_headers[i]::jsonb, p_metadata[i]::jsonb, p_tags[i]::jsonb, p_who[i], p_source[i], m <> 1, not writes)
          on conflict do nothing returning number into number;
        continue when number is null; -- somebody made the key between the look and the insert: look again
        revision := 1; marker := not writes;
        insert into journal (at, kind, bucket, key, number, size, d_objects, d_bytes, d_markers, who, source, detail)
          values (p_at[i], case k when 2 then 3 else k end, p_bucket[i], p_key[i], number, p_size[i], writes::int, p_size[i], (not writes)::int, p_who[i], p_source[i], p_detail[i]::jsonb);
        exit;
      end if;

      archived := m = 1 or not h.plain;
      d := case when archived or h.marker then 0 else h.size end; -- bytes that go
      if writes and room is not null and p_size[i] - d > room then status := 5; exit; end if;
      d_objects := -(not h.marker)::int; d_bytes := case when h.marker then 0 else -h.size end;
      d_prev := 0; d_prev_bytes := 0; d_markers := 0;
      if archived then
        insert into history (bucket, key, number, revision, marker, created, size, md5, parts, crc64, checksum_kind, checksum, tier, body_file,
                             body_offset, content_type, headers, metadata, tags, written_by, source, plain, replaced)
          values (h.bucket, h.key, h.number, h.revision, h.marker, h.created, h.size, h.md5, h.parts, h.crc64, h.checksum_kind, h.checksum, h.tier, h.body_file,
                  h.body_offset, h.content_type, h.headers, h.metadata, h.tags, h.written_by, h.source, h.plain, p_at[i]);
        if not h.marker then d_prev := 1; d_prev_bytes := h.size; end if;
      else
        if h.marker then d_markers := -1; end if;
        if h.body_file <> 0 and (not writes or h.body_file <> p_file[i] or h.body_offset <> p_offset[i]) then
          insert into released (tier, file) values (h.tier, h.body_file); freed := true;
        end if;
        if h.revision > 1 then delete from revisions r where r.bucket = h.bucket and r.key = h.key and r.number = h.number; end if;
      end if;
      if m = 2 then
        delete from history where bucket = h.bucket and key = h.key and plain and number <> h.number returning * into x;
        if found then
          if x.marker then d_markers := d_markers - 1; else d_prev := d_prev - 1; d_prev_bytes := d_prev_bytes - x.size; end if;
          if x.body_file <> 0 then insert into released (tier, file) values (x.tier, x.body_file); freed := true; end if;
          if x.revision > 1 then delete from revisions r where r.bucket = x.bucket and r.key = x.key and r.number = x.number; end if;
        end if;
      end if;
      if not writes and m = 0 then
        delete from heads where bucket = h.bucket and key = h.key;
        number := h.number; revision := h.revision; size_of := h.size;
      else
        number := nextval('version_numbers'); revision := 1; marker := not writes; size_of := case when writes then p_size[i] else h.size end;
        update heads set number = number_of.n, revision = 1, marker = not writes, created = p_at[i], size = p_size[i], md5 = p_md5[i], parts = p_parts[i],
          crc64 = p_crc64[i], checksum_kind = p_checksum_kind[i], checksum = p_checksum[i], tier = p_tier[i],
          body_file = p_file[i], body_offset = p_offset[i], content_type = p_type[i], headers = p_headers[i]::jsonb,
          metadata = p_metadata[i]::jsonb, tags = p_tags[i]::jsonb, written_by = p_who[i], source = p_source[i], plain = m <> 1
          from (select commit_changes.number as n) number_of where bucket = h.bucket and key = h.key;
        if writes then d_objects := d_objects + 1; d_bytes := d_bytes + p_size[i]; else d_markers := d_markers + 1; end if;
      end if;
      insert into journal (at, kind, bucket, key, number, size, d_objects, d_bytes, d_prev, d_prev_bytes, d_markers, who, source, detail)
        values (p_at[i], case when k = 2 and m <> 0 then 3 else k end, p_bucket[i], p_key[i], number, size_of, d_objects, d_bytes, d_prev, d_prev_bytes, d_markers, p_who[i], p_source[i], p_detail[i]::jsonb);
      exit;
    end loop;
    return next;
  end loop;
end $$;
-- +goose StatementEnd

drop function list_folded;
-- list_folded gives a page of keys under a prefix in which what follows the delimiter is folded into prefixes.
-- It reads a few keys at a time and seeks past each folded prefix. p_after is exclusive; a folded prefix at or
-- before it is not given again. With p_all, keys whose current version is a delete marker count too.
-- +goose StatementBegin
create function list_folded(p_bucket bigint, p_prefix bytea, p_delimiter bytea, p_after bytea, p_until bytea, p_max integer, p_all boolean)
returns table (key bytea, folded boolean) language plpgsql stable as $$
#variable_conflict use_column
declare
  cursor_key bytea := p_prefix; inclusive boolean := true; c refcursor; name bytea; at integer; fold bytea; found_any boolean; n integer := 0; step integer := 8;
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
    if p_all then
      open c for select h.key from heads h where h.bucket = p_bucket and h.key >= cursor_key and (p_until is null or h.key < p_until) order by h.key limit step;
    else
      open c for select h.key from heads h where h.bucket = p_bucket and h.key >= cursor_key and (p_until is null or h.key < p_until)
                 and not h.marker order by h.key limit step;
    end if;
    loop
      fetch c into name;
      exit when not found;
      continue when not inclusive and name = cursor_key;
      found_any := true;
      at := position(p_delimiter in substring(name from plen + 1));
      if at > 0 then
        fold := substring(name for plen + at + length(p_delimiter) - 1);
        key := fold; folded := true; return next; n := n + 1;
        exit;
      end if;
      key := name; folded := false; return next; n := n + 1;
      cursor_key := name; inclusive := false;
      exit when n >= p_max;
    end loop;
    close c;
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

-- list_as_of gives a page of a bucket as it stood at a moment: keys that had an object then, with the version that was
-- current, and folded prefixes that held one. It looks at p_budget keys at the most; when that is used up before the page is
-- full, a last row without version and not folded says after which key to go on.
-- +goose StatementBegin
create function list_as_of(p_bucket bigint, p_prefix bytea, p_delimiter bytea, p_after bytea, p_until bytea, p_at timestamptz, p_max integer, p_budget integer)
returns table (key bytea, folded boolean, number bigint) language plpgsql stable
set plan_cache_mode = force_generic_plan set enable_seqscan = off set enable_hashjoin = off set enable_mergejoin = off as $$
#variable_conflict use_column
declare
  cursor_key bytea := p_prefix; inclusive boolean := true; r record; at integer; fold bytea; seen integer; n integer := 0; step integer := 32;
  plen integer := length(p_prefix); looked integer := 0;
begin
  if p_after >= p_prefix and p_after <> '' then
    cursor_key := p_after; inclusive := false;
    at := case when p_delimiter = '' then 0 else position(p_delimiter in substring(p_after from plen + 1)) end;
    if substring(p_after for plen) = p_prefix and at > 0 then
      cursor_key := bytes_successor(substring(p_after for plen + at + length(p_delimiter) - 1)); inclusive := true;
      if cursor_key is null then return; end if;
    end if;
  end if;
  while n < p_max loop
    seen := 0; fold := null;
    for r in select k.key, case when k.created <= p_at then case when k.marker then null else k.number end else o.number end as number
             from (select h.key, h.number, h.marker, h.created from heads h where h.bucket = p_bucket and h.key >= cursor_key
                   and (p_until is null or h.key < p_until) order by h.key limit step) k
             left join lateral (select case when y.marker then null else y.number end as number from history y
                   where k.created > p_at and y.bucket = p_bucket and y.key = k.key and y.created <= p_at order by y.number desc limit 1) o on true
             order by k.key loop
      continue when not inclusive and r.key = cursor_key;
      seen := seen + 1; cursor_key := r.key; inclusive := false;
      continue when r.number is null;
      at := case when p_delimiter = '' then 0 else position(p_delimiter in substring(r.key from plen + 1)) end;
      if at > 0 then
        fold := substring(r.key for plen + at + length(p_delimiter) - 1);
        key := fold; folded := true; number := null; return next; n := n + 1;
        exit;
      end if;
      key := r.key; folded := false; number := r.number; return next; n := n + 1;
      exit when n >= p_max;
    end loop;
    if seen = 0 then return; end if;
    looked := looked + seen;
    if fold is not null then
      cursor_key := bytes_successor(fold); inclusive := true; step := 32;
      if cursor_key is null then return; end if;
    else
      step := least(step * 4, 1001);
    end if;
    if n < p_max and looked >= p_budget then
      key := cursor_key; folded := false; number := null; return next;
      return;
    end if;
  end loop;
end $$;
-- +goose StatementEnd

-- purge_keys removes all versions and delete markers of some keys, for good.
-- +goose StatementBegin
create function purge_keys(p_bucket bigint, p_keys bytea[], p_at timestamptz, p_who text, p_source text)
returns table (objects bigint, bytes bigint, prev bigint, prev_bytes bigint, markers bigint) language plpgsql
set plan_cache_mode = force_generic_plan set enable_seqscan = off set enable_hashjoin = off set enable_mergejoin = off as $$
#variable_conflict use_column
begin
  perform pg_advisory_xact_lock_shared(7302, (p_bucket % 2147483647)::int);
  perform 1 from heads where bucket = p_bucket and key = any(p_keys) order by key for update;
  return query with h as (
    delete from heads where bucket = p_bucket and key = any(p_keys) returning key, number, marker, size, tier, body_file, true as head
  ), p as (
    delete from history where bucket = p_bucket and key = any(p_keys) returning key, number, marker, size, tier, body_file, false as head
  ), r as (
    delete from revisions where bucket = p_bucket and key = any(p_keys)
  ), x as (
    select * from h union all select * from p
  ), rel as (
    insert into released (tier, file) select distinct tier, body_file from x where body_file <> 0
  ), log as (
    insert into journal (at, kind, bucket, key, number, size, d_objects, d_bytes, d_prev, d_prev_bytes, d_markers, who, source, detail)
    select p_at, 4, p_bucket, key, number, size, case when head and not marker then -1 else 0 end, case when head and not marker then -size else 0 end,
           case when head or marker then 0 else -1 end, case when head or marker then 0 else -size end, -marker::int, p_who, p_source,
           case when marker then '{"marker": true}'::jsonb end from x order by key, number
  )
  select count(*) filter (where head and not marker), coalesce(sum(size) filter (where head), 0)::bigint,
         count(*) filter (where not head and not marker), coalesce(sum(size) filter (where not head), 0)::bigint, count(*) filter (where marker) from x;
end $$;
-- +goose StatementEnd

-- Orders given to the service that take a while: renames and restores of a whole prefix.
create table orders (
  id       bigint generated always as identity primary key,
  kind     text not null,
  bucket   bigint not null,
  what     jsonb not null,
  state    text not null,                -- running, stopped, done, failed
  progress jsonb not null default '{}',
  problem  text not null default '',
  who      text not null,
  source   text not null,
  created  timestamptz not null,
  changed  timestamptz not null
);
create index orders_running on orders (id) where state = 'running';

-- +goose Down
select 1/0; -- there is no way back to a schema without versions
