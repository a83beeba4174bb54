-- The one door through which versions go for good. Every function that removes or overwrites versions asks
-- retained() of each, under the lock that it removes it with, and tells write_down() what became of it. Nothing
-- else writes into the journal or releases bodies.

-- retained reports whether a version must stay. Bulk work leaves out what is retained, and says which it was.
create function retained(p_bucket bigint, p_key bytea, p_number bigint, p_at timestamptz) returns boolean
language sql stable as $$ select false $$;

-- write_down writes entries of the journal, in their order, and lets go of versions: the collector looks at their
-- bodies, and the metadata that they had before goes.
create function write_down(p_entries entry[], p_gone going[]) returns void language plpgsql as $$
begin
  insert into journal (at, kind, bucket, key, number, size, d_objects, d_bytes, d_prev, d_prev_bytes, d_markers,
    d_tiers, who, source, detail)
    select at, kind, bucket, key, number, size, d_objects, d_bytes, d_prev, d_prev_bytes, d_markers, d_tiers, who, source,
      detail from unnest(p_entries);
  if cardinality(p_gone) > 0 then
    insert into released (tier, file) select distinct tier, body_file from unnest(p_gone) where body_file <> 0;
    if exists (select 1 from unnest(p_gone) where revision > 1) then
      delete from revisions r using unnest(p_gone) g
        where g.revision > 1 and r.bucket = g.bucket and r.key = g.key and r.number = g.number;
    end if;
  end if;
end $$;

-- note writes an entry of the journal that changes neither objects nor bytes.
create function note(p_at timestamptz, p_kind smallint, p_bucket bigint, p_key bytea, p_number bigint, p_size bigint,
  p_who text, p_source text, p_detail jsonb) returns void language sql as $$
  select write_down(array[row(p_at, p_kind, p_bucket, p_key, p_number, p_size, 0, 0, 0, 0, 0, null, p_who, p_source,
    p_detail)::entry], null)
$$;

-- let_go has the collector look at a body that something but a version let go of.
create function let_go(p_tier smallint, p_file bigint) returns void language sql as $$
  select write_down(null, array[row(null, null, null, 1, p_tier, p_file)::going])
$$;
