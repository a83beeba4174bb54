-- commit_changes applies a batch of changes with distinct keys, ordered by bucket and key, and answers
-- each by its place in the batch with a status, which is @Done when all is well.
--
-- A kind is one of the journal's. Those that write make the change a key's current version; @ObjectRemoved
-- and @ObjectRenamedAway remove the current one; @VersionRemoved removes the version `number` for good
-- (@PlainVersion: the plain one); @ObjectAnnotated changes the metadata of `number`, or of the current
-- version. A condition is if_absent (of metadata: that no other version is current), or if_md5 with the number of parts
-- that must be there; parts below 0: whatever is.
--
-- Keys are locked first, in their order; then what can be is done for the whole batch in a statement or two,
-- and the rest one by one. What meets others all the same fails with 40001, and the caller tries again with
-- p_careful: one by one, locked before it is read. What is retained is answered for one by one, too.
--
-- p_buckets are the buckets of the changes, in order; p_kinds says what is among them: 1 writes, 2 metadata, 4 removals.
create function commit_changes(p_changes change[], p_buckets bigint[], p_kinds integer, p_careful boolean)
returns table (place integer, status smallint, mode smallint, number bigint, revision integer, marker boolean,
               freed boolean) language plpgsql
set plan_cache_mode = force_generic_plan set enable_seqscan = off set enable_hashjoin = off
  set enable_mergejoin = off as $$
#variable_conflict use_column
declare
  n integer := array_length(p_changes, 1);
  left_over integer := n;
  done boolean[] := array_fill(false, array[n]);
  c change; q record; h heads; x history; i integer; room bigint; d bigint; m smallint;
  gone bigint[]; kept bigint[]; paused bigint[]; tight boolean; same boolean; writes boolean; archived boolean; stays boolean;
  versions bigint[]; fresh integer; -- of new keys, and how many they are
  over boolean[]; overs integer; nothing integer[]; -- which keys are there, and which are not
  d_objects integer; d_bytes bigint; d_prev integer; d_prev_bytes bigint; d_markers integer; size_of bigint;
  tiers_of smallint[]; come bigint[]; -- tiers in which bytes come (above zero) and go, and how many
  entries entry[]; leaving going[] := '{}'; -- what is written down in the end
begin
  -- Removing a bucket or changing its settings takes this lock alone; buckets with a quota commit one batch at a time.
  select coalesce(bool_or(quota is not null), false) into tight from buckets where id = any(p_buckets);
  if tight then
    perform pg_advisory_xact_lock(@BucketLock, (id % 2147483647)::int) from unnest(p_buckets) id;
  else
    perform pg_advisory_xact_lock_shared(@BucketLock, (id % 2147483647)::int) from unnest(p_buckets) id;
  end if;
  -- What holds now that we have the locks.
  select coalesce(array_agg(id) filter (where removed is not null), '{}'),
         coalesce(array_agg(id) filter (where versioning = @On), '{}'),
         coalesce(array_agg(id) filter (where versioning = @Paused), '{}'),
         tight = coalesce(bool_or(quota is not null), false)
    into gone, kept, paused, same from buckets where id = any(p_buckets);
  if not same then
    raise exception 'a quota was set or taken away meanwhile' using errcode = '40001';
  end if;

  if p_kinds & 1 <> 0 and not p_careful and not tight then
    -- Which keys are new, with the numbers that their versions get, and which are there and written over
    -- without conditions: these are locked.
    select array_agg(case when o.key is null and e.yes then nextval('version_numbers') end),
           array_agg(x.over), count(*) filter (where x.over), count(*) filter (where o.key is null and e.yes)
      into versions, over, overs, fresh
      from unnest(p_changes) with ordinality w
      cross join lateral (select w.kind in (@Writes) and w.if_md5 is null and w.number is null
        and not w.bucket = any(gone) as yes) e
      left join lateral (select key, number, plain from heads where e.yes and heads.bucket = w.bucket
        and heads.key = w.key limit 1 for update) o on true
      cross join lateral (select o.key is not null and not coalesce(w.if_absent, false) and not w.bucket = any(paused)
        and not (o.plain and not w.bucket = any(kept) and retained(w.bucket, w.key, o.number, w.at)) as over) x;

    if fresh > 0 then
      -- A key that is made meanwhile fails as a double.
      insert into heads (bucket, key, number, created, size, md5, parts, crc64, checksum_kind, checksum, tier,
                         body_file, body_offset, content_type, headers, metadata, tags, written_by, source, plain)
      select bucket, key, version, at, size, md5, parts, crc64, checksum_kind, checksum, tier,
             body_file, body_offset, content_type, headers, metadata, tags, who, source, not bucket = any(kept)
      from rows from (unnest(p_changes), unnest(versions)) as w(@ChangeColumns, version) where version is not null;
      select array_agg(row(at, kind, bucket, key, version, size, 1, size, 0, 0, 0,
             case when tier <> 0 then tier_bytes(array[tier], array[size]) end, who, source, detail)::entry)
      into entries
      from rows from (unnest(p_changes), unnest(versions)) as w(@ChangeColumns, version) where version is not null;
      for i in 1..n loop
        continue when versions[i] is null;
        done[i] := true; left_over := left_over - 1;
      end loop;
      return query select w.i::integer, @Done::smallint,
             case when w.bucket = any(kept) then @On when w.bucket = any(paused) then @Paused else @Off end::smallint,
             w.version, 1, false, false
        from rows from (unnest(p_changes), unnest(versions)) with ordinality as w(@ChangeColumns, version, i)
        where w.version is not null;
    end if;

    if overs > 0 then
      -- w is the change, w.old the version that was.
      for q in
        with want as materialized (
          select w.*, h.*, nextval('version_numbers') as version, w.bucket = any(kept) as keep,
                 w.bucket = any(kept) or not (h.old).plain as archive
          from unnest(p_changes) with ordinality w
          cross join lateral (select o as old, o.ctid as place from heads o where o.bucket = w.bucket and o.key = w.key
                              limit 1) h
          where over[w.ordinality]
        ), arch as (
          insert into history select (w.old).*, w.at from want w where w.archive
        ), upd as (
          update heads h set number = w.version, revision = 1, marker = false, created = w.at,
            size = w.size, md5 = w.md5, parts = w.parts, crc64 = w.crc64, checksum_kind = w.checksum_kind,
            checksum = w.checksum, tier = w.tier, body_file = w.body_file, body_offset = w.body_offset,
            content_type = w.content_type, headers = w.headers, metadata = w.metadata, tags = w.tags,
            written_by = w.who, source = w.source, plain = not w.keep
          from want w where h.ctid = w.place
          returning 1
        )
        select w.ordinality as i, w.keep, w.version, not w.archive and (w.old).body_file <> 0 as freed,
               (select count(*) from upd) as made,
               row(w.at, w.kind, w.bucket, w.key, w.version, w.size, (w.old).marker::int,
                 w.size - case when (w.old).marker then 0 else (w.old).size end,
                 (w.archive and not (w.old).marker)::int,
                 case when w.archive and not (w.old).marker then (w.old).size else 0 end,
                 -((w.old).marker and not w.archive)::int,
                 case when w.tier <> 0 or (w.old).tier <> 0 then tier_bytes(array[w.tier, (w.old).tier],
                   array[w.size, case when w.archive then 0 else -(w.old).size end]) end, w.who, w.source,
                 w.detail)::entry as told,
               case when not w.archive then row(w.bucket, w.key, (w.old).number, (w.old).revision, (w.old).tier,
                 case when (w.old).body_file <> w.body_file or (w.old).body_offset <> w.body_offset
                   then (w.old).body_file else 0 end)::going end as gone
        from want w
      loop
        if q.made <> overs then raise exception 'a key changed while it was locked' using errcode = '40001';
          end if;
        entries := entries || q.told;
        if q.gone is not null then leaving := leaving || q.gone; end if;
        done[q.i] := true; left_over := left_over - 1;
        place := q.i::integer; status := @Done; number := q.version; revision := 1; marker := false; freed := q.freed;
        mode := case when q.keep then @On else @Off end;
        return next;
      end loop;
    end if;
  end if;

  -- Current versions are removed without conditions: w is the change, w.old the version that was.
  if p_kinds & 4 <> 0 and not p_careful then
    select array_agg(x.over), count(*) filter (where x.over),
           array_agg(w.ordinality::integer) filter (where o.key is null and e.yes and not w.bucket = any(kept))
      into over, overs, nothing
      from unnest(p_changes) with ordinality w
      cross join lateral (select w.kind in (@ObjectRemoved, @ObjectRenamedAway) and w.if_md5 is null and w.number is null
        and not w.bucket = any(gone) and not w.bucket = any(paused) as yes) e
      left join lateral (select key, number, plain from heads where e.yes and heads.bucket = w.bucket
        and heads.key = w.key limit 1 for update) o on true
      cross join lateral (select o.key is not null and e.yes
        and not (o.plain and not w.bucket = any(kept) and retained(w.bucket, w.key, o.number, w.at)) as over) x;

    if nothing is not null then -- nor a marker is left
      foreach i in array nothing loop
        done[i] := true; left_over := left_over - 1;
        place := i; status := @Done; number := null; revision := null; marker := false; freed := false; mode := @Off;
        return next;
      end loop;
    end if;

    if overs > 0 then
      for q in
        with want as materialized (
          select w.kind, w.bucket, w.key, w.at, w.who, w.source, w.detail, w.ordinality, h.*, k.keep,
                 k.keep or not (h.old).plain as archive,
                 case when k.keep then nextval('version_numbers') else (h.old).number end as version
          from unnest(p_changes) with ordinality w
          cross join lateral (select o as old, o.ctid as place from heads o where o.bucket = w.bucket and o.key = w.key
                              limit 1) h
          cross join lateral (select w.bucket = any(kept) as keep) k
          where over[w.ordinality]
        ), arch as (
          insert into history select (w.old).*, w.at from want w where w.archive
        ), del as (
          delete from heads h using want w where h.ctid = w.place and not w.keep returning 1
        ), upd as (
          update heads h set number = w.version, revision = 1, marker = true, created = w.at, size = 0,
            md5 = decode(repeat('00', 16), 'hex'), parts = 0, crc64 = 0, checksum_kind = 0, checksum = null, tier = 0,
            body_file = 0, body_offset = 0, content_type = '', headers = null, metadata = null, tags = null,
            written_by = w.who, source = w.source, plain = false
          from want w where h.ctid = w.place and w.keep returning 1
        )
        select w.ordinality as i, w.keep, w.version, case when w.keep then 1 else (w.old).revision end as revision,
               not w.archive and (w.old).body_file <> 0 as freed,
               (select count(*) from del) + (select count(*) from upd) as made,
               row(w.at, case when w.keep and w.kind = @ObjectRemoved then @ObjectDeleted else w.kind end, w.bucket,
                 w.key, w.version, (w.old).size, -(not (w.old).marker)::int,
                 case when (w.old).marker then 0 else -(w.old).size end,
                 (w.archive and not (w.old).marker)::int,
                 case when w.archive and not (w.old).marker then (w.old).size else 0 end,
                 w.keep::int - ((w.old).marker and not w.archive)::int,
                 case when (w.old).tier <> 0 then tier_bytes(array[(w.old).tier],
                   array[case when w.archive or (w.old).marker then 0 else -(w.old).size end]) end, w.who, w.source,
                 w.detail)::entry as told,
               case when not w.archive then row(w.bucket, w.key, (w.old).number, (w.old).revision, (w.old).tier,
                 (w.old).body_file)::going end as gone
        from want w
      loop
        if q.made <> overs then raise exception 'a key changed while it was locked' using errcode = '40001';
          end if;
        entries := entries || q.told;
        if q.gone is not null then leaving := leaving || q.gone; end if;
        done[q.i] := true; left_over := left_over - 1;
        place := q.i::integer; status := @Done; number := q.version; revision := q.revision; marker := q.keep;
        freed := q.freed; mode := case when q.keep then @On else @Off end;
        return next;
      end loop;
    end if;
  end if;

  -- Metadata of current versions, at the revision that was read.
  if p_kinds & 2 <> 0 and not p_careful and not tight then
    for q in
      with want as materialized (
        select w.*, h.*, case when w.bucket = any(kept) then @On
          when w.bucket = any(paused) then @Paused else @Off end as mode
        from unnest(p_changes) with ordinality w
        cross join lateral (select o as old, o.ctid as place from heads o where o.bucket = w.bucket and o.key = w.key
          and o.number = w.number and o.revision = w.revision and not o.marker limit 1 for update) h
        where w.kind = @ObjectAnnotated and not w.bucket = any(gone)
      ), rev as (
        insert into revisions (bucket, key, number, revision, until, content_type, headers, metadata, tags, who, source)
        select bucket, key, number, revision, at, (w.old).content_type, (w.old).headers, (w.old).metadata,
          (w.old).tags, who, source
        from want w
      ), upd as (
        update heads h set revision = w.revision + 1, content_type = w.content_type, headers = w.headers,
          metadata = w.metadata, tags = w.tags
        from want w where h.ctid = w.place returning w.ordinality as i
      )
      select w.ordinality as i, w.mode, w.number, w.revision + 1 as revision, u.i is not null as hit,
        row(w.at, w.kind, w.bucket, w.key, w.number, (w.old).size, 0, 0, 0, 0, 0, null, w.who, w.source,
          coalesce(w.detail, '{}') || jsonb_build_object('revision', w.revision + 1))::entry as told
      from want w left join upd u on u.i = w.ordinality
    loop
      if not q.hit then raise exception 'a key changed while it was locked' using errcode = '40001'; end if;
      entries := entries || q.told;
      done[q.i] := true; left_over := left_over - 1;
      place := q.i::integer; status := @Done; number := q.number; revision := q.revision; marker := false; freed := false;
      mode := q.mode;
      return next;
    end loop;
  end if;
  for i in 1..n loop
    exit when left_over = 0;
    continue when done[i];
    if tight then -- room is reckoned with what was written down
      perform write_down(entries, leaving);
      entries := '{}'; leaving := '{}';
    end if;
    c := p_changes[i]; writes := c.kind in (@Writes);
    m := case when c.bucket = any(kept) then @On when c.bucket = any(paused) then @Paused else @Off end;
    place := i; mode := m; number := null; revision := null; marker := false; freed := false; status := @Done;
    if c.bucket = any(gone) then status := @BucketGone; return next; continue; end if;
    room := null;
    if tight and writes then
      select b.quota - used_bytes(b.id) into room from buckets b where b.id = c.bucket and b.quota is not null;
    end if;
    loop
      select * into h from heads where bucket = c.bucket and key = c.key for update;
      stays := found;

      if c.kind = @ObjectAnnotated then
        if c.if_absent and stays and h.number <> c.number then status := @OtherVersion; exit; end if;
        if not stays then status := case when c.number is null then @Absent else @NoVersion end; exit; end if;
        if c.number is null or h.number = c.number or c.number = @PlainVersion and h.plain then
          if h.marker then status := @IsMarker; exit; end if;
          if c.revision is not null and h.revision <> c.revision then
            status := @OtherRevision; number := h.number; revision := h.revision; exit;
          end if;
          insert into revisions
            values (h.bucket, h.key, h.number, h.revision, c.at, h.content_type, h.headers, h.metadata, h.tags, c.who,
              c.source);
          update heads set revision = h.revision + 1, content_type = c.content_type, headers = c.headers,
            metadata = c.metadata, tags = c.tags where bucket = h.bucket and key = h.key;
          number := h.number; revision := h.revision + 1; size_of := h.size;
        else
          select * into x from history where bucket = c.bucket and key = c.key
            and (number = c.number or c.number = @PlainVersion and plain) for update;
          if not found then status := @NoVersion; exit; end if;
          if x.marker then status := @IsMarker; exit; end if;
          if c.revision is not null and x.revision <> c.revision then
            status := @OtherRevision; number := x.number; revision := x.revision; exit;
          end if;
          insert into revisions
            values (x.bucket, x.key, x.number, x.revision, c.at, x.content_type, x.headers, x.metadata, x.tags, c.who,
              c.source);
          update history set revision = x.revision + 1, content_type = c.content_type, headers = c.headers,
            metadata = c.metadata, tags = c.tags where bucket = x.bucket and key = x.key and number = x.number;
          number := x.number; revision := x.revision + 1; size_of := x.size;
        end if;
        entries := entries || row(c.at, c.kind, c.bucket, c.key, number, size_of, 0, 0, 0, 0, 0, null, c.who, c.source,
          coalesce(c.detail, '{}') || jsonb_build_object('revision', revision))::entry;
        exit;
      end if;

      if c.kind = @VersionRemoved then
        if not stays then status := @NoVersion; exit; end if;
        d_objects := 0; d_bytes := 0; d_prev := 0; d_prev_bytes := 0; d_markers := 0;
        if h.number = c.number or c.number = @PlainVersion and h.plain then
          if retained(h.bucket, h.key, h.number, c.at) then status := @Retained; number := h.number; exit; end if;
          delete from heads where bucket = h.bucket and key = h.key;
          if h.marker then d_markers := -1; else d_objects := -1; d_bytes := -h.size; end if;
          -- The one before it becomes current.
          delete from history where (bucket, key, number) = (select bucket, key, number from history
            where bucket = h.bucket and key = h.key order by number desc limit 1) returning * into x;
          if found then
            insert into heads values (x.bucket, x.key, x.number, x.revision, x.marker, x.created, x.size, x.md5,
              x.parts,
              x.crc64, x.checksum_kind, x.checksum, x.tier, x.body_file, x.body_offset, x.content_type, x.headers,
              x.metadata, x.tags, x.written_by, x.plain, x.source);
            if not x.marker then
              d_objects := d_objects + 1; d_bytes := d_bytes + x.size; d_prev := -1; d_prev_bytes := -x.size;
            end if;
          end if;
          number := h.number; revision := h.revision; marker := h.marker; size_of := h.size; tiers_of := array[h.tier];
          leaving := leaving || row(h.bucket, h.key, h.number, h.revision, h.tier, h.body_file)::going;
          freed := h.body_file <> 0;
        else
          select * into x from history where bucket = c.bucket and key = c.key
            and (number = c.number or c.number = @PlainVersion and plain) for update;
          if not found then status := @NoVersion; exit; end if;
          if retained(x.bucket, x.key, x.number, c.at) then status := @Retained; number := x.number; exit; end if;
          delete from history where bucket = x.bucket and key = x.key and number = x.number;
          if x.marker then d_markers := -1; else d_prev := -1; d_prev_bytes := -x.size; end if;
          number := x.number; revision := x.revision; marker := x.marker; size_of := x.size; tiers_of := array[x.tier];
          leaving := leaving || row(x.bucket, x.key, x.number, x.revision, x.tier, x.body_file)::going;
          freed := x.body_file <> 0;
        end if;
        entries := entries || row(c.at, c.kind, c.bucket, c.key, number, size_of, d_objects, d_bytes, d_prev,
          d_prev_bytes, d_markers, tier_bytes(tiers_of, array[-size_of]), c.who, c.source,
          nullif(coalesce(c.detail, '{}') || case when marker then '{"marker": true}' else '{}' end::jsonb,
            '{}'))::entry;
        exit;
      end if;

      -- A version is written, or the current one removed.
      if c.number is not null and (coalesce(h.number, 0) <> c.number or coalesce(h.revision, 0) <> c.revision) then
        status := @OtherVersion; exit;
      end if;
      if stays and not h.marker then
        if coalesce(c.if_absent, false) then status := @Exists; exit; end if;
        if c.if_md5 is not null and c.if_parts >= 0 and (h.md5 <> c.if_md5 or h.parts <> c.if_parts) then
          status := @Mismatch; exit;
        end if;
      elsif c.if_md5 is not null then status := @Absent; exit;
      end if;
      if not writes and m = @Off and not stays then exit; end if; -- nothing to remove

      if not stays then
        if room is not null and c.size > room then status := @OverQuota; exit; end if;
        insert into heads (bucket, key, created, size, md5, parts, crc64, checksum_kind, checksum, tier, body_file,
          body_offset,
                           content_type, headers, metadata, tags, written_by, source, plain, marker)
          values (c.bucket, c.key, c.at, c.size, c.md5, c.parts, c.crc64, c.checksum_kind, c.checksum, c.tier,
            c.body_file,
                  c.body_offset, c.content_type, c.headers, c.metadata, c.tags, c.who, c.source, m <> @On, not writes)
          on conflict do nothing returning number into number;
        continue when number is null; -- somebody made the key between the look and the insert: look again
        revision := 1; marker := not writes;
        entries := entries || row(c.at, case c.kind when @ObjectRemoved then @ObjectDeleted else c.kind end, c.bucket,
          c.key, number, c.size, writes::int, c.size, 0, 0, (not writes)::int, tier_bytes(array[c.tier], array[c.size]),
          c.who, c.source, c.detail)::entry;
        exit;
      end if;

      archived := m = @On or not h.plain;
      if not archived and retained(h.bucket, h.key, h.number, c.at) then
        status := @Retained; number := h.number; exit;
      end if;
      x := null; -- the plain version before, which a new one replaces
      if m = @Paused then
        select * into x from history where bucket = h.bucket and key = h.key and plain and number <> h.number
          for update;
        if found and retained(x.bucket, x.key, x.number, c.at) then
          status := @Retained; number := x.number; exit;
        end if;
      end if;
      d := case when archived or h.marker then 0 else h.size end; -- bytes that go
      if writes and room is not null and c.size - d > room then status := @OverQuota; exit; end if;
      d_objects := -(not h.marker)::int; d_bytes := case when h.marker then 0 else -h.size end;
      d_prev := 0; d_prev_bytes := 0; d_markers := 0;
      tiers_of := array[c.tier, h.tier]; come := array[c.size, -d];
      if archived then
        insert into history select h.*, c.at;
        if not h.marker then d_prev := 1; d_prev_bytes := h.size; end if;
      else
        if h.marker then d_markers := -1; end if;
        freed := h.body_file <> 0
          and (not writes or h.body_file <> c.body_file or h.body_offset <> c.body_offset);
        leaving := leaving || row(h.bucket, h.key, h.number, h.revision, h.tier,
          case when freed then h.body_file else 0 end)::going;
      end if;
      if x.key is not null then
        delete from history where bucket = x.bucket and key = x.key and number = x.number;
        tiers_of := tiers_of || x.tier; come := come || -x.size;
        if x.marker then d_markers := d_markers - 1; else d_prev := d_prev - 1; d_prev_bytes := d_prev_bytes - x.size; end if;
        leaving := leaving || row(x.bucket, x.key, x.number, x.revision, x.tier, x.body_file)::going;
        freed := freed or x.body_file <> 0;
      end if;
      if not writes and m = @Off then
        delete from heads where bucket = h.bucket and key = h.key;
        number := h.number; revision := h.revision; size_of := h.size;
      else
        number := nextval('version_numbers'); revision := 1; marker := not writes;
        size_of := case when writes then c.size else h.size end;
        update heads set number = number_of.n, revision = 1, marker = not writes, created = c.at, size = c.size,
          md5 = c.md5,
          parts = c.parts, crc64 = c.crc64, checksum_kind = c.checksum_kind, checksum = c.checksum, tier = c.tier,
          body_file = c.body_file, body_offset = c.body_offset, content_type = c.content_type, headers = c.headers,
          metadata = c.metadata, tags = c.tags, written_by = c.who, source = c.source, plain = m <> @On
          from (select commit_changes.number as n) number_of where bucket = h.bucket and key = h.key;
        if writes then d_objects := d_objects + 1; d_bytes := d_bytes + c.size; else d_markers := d_markers + 1; end if;
      end if;
      entries := entries || row(c.at, case when c.kind = @ObjectRemoved and m <> @Off then @ObjectDeleted else c.kind end,
        c.bucket, c.key, number, size_of, d_objects, d_bytes, d_prev, d_prev_bytes, d_markers,
        tier_bytes(tiers_of, come), c.who, c.source, c.detail)::entry;
      exit;
    end loop;
    return next;
  end loop;
  perform write_down(entries, leaving);
end $$;
