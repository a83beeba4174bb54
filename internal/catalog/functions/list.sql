-- The least value greater than every one that begins with p; null when there is none.
create function bytes_successor(p bytea) returns bytea language plpgsql immutable strict as $$
begin
  for i in reverse length(p) - 1 .. 0 loop
    if get_byte(p, i) < 255 then
      return set_byte(substring(p for i + 1), i, get_byte(p, i) + 1);
    end if;
  end loop;
  return null;
end $$;

-- What no key is above: keys have at most 1,024 bytes.
create function beyond_keys() returns bytea language sql immutable as $$ select decode(repeat('ff', 1025), 'hex') $$;

-- list_folded gives a page of keys under a prefix in which what follows the delimiter is folded into prefixes.
-- It seeks from each entry to the next. p_after is exclusive; a folded prefix at or before it is not given again.
-- With p_all, keys whose current version is a delete marker count too.
create function list_folded(p_bucket bigint, p_prefix bytea, p_delimiter bytea, p_after bytea, p_until bytea,
  p_max integer, p_all boolean)
returns table (key bytea, folded boolean) language plpgsql stable
set plan_cache_mode = force_generic_plan set enable_seqscan = off set enable_sort = off as $$
#variable_conflict use_column
declare
  next_key bytea := p_prefix; stop bytea := coalesce(p_until, beyond_keys()); at integer;
  plen integer := length(p_prefix); from_key integer := plen + 1; dlen integer := length(p_delimiter);
  -- What comes after all that begins with a folded prefix is the prefix with this in the place of the
  -- delimiter; null when the delimiter is all greatest bytes.
  beyond bytea := bytes_successor(p_delimiter);
begin
  if p_after >= p_prefix then
    next_key := p_after || '\x00'; -- the key that comes right after it
    at := position(p_delimiter in substring(p_after from from_key));
    if substring(p_after for plen) = p_prefix and at > 0 then
      next_key := bytes_successor(substring(p_after for plen + at + dlen - 1));
      if next_key is null then return; end if;
    end if;
  end if;
  if p_all then
    return query with recursive w as (
      (select h.key as k, position(p_delimiter in substring(h.key from from_key)) as at, 1 as n
       from heads h where h.bucket = p_bucket and h.key >= next_key and h.key < stop
       order by h.key limit 1)
      union all
      select x.key, position(p_delimiter in substring(x.key from from_key)), w.n + 1
      from w cross join lateral (
        select h.key from heads h where h.bucket = p_bucket and h.key < stop
          and h.key >= case when w.at = 0 then w.k || '\x00'
            when beyond is null then bytes_successor(substring(w.k for plen + w.at + dlen - 1))
            else substring(w.k for plen + w.at - 1) || beyond end
        order by h.key limit 1) x
      where w.n < p_max
    ) select case when w.at > 0 then substring(w.k for plen + w.at + dlen - 1) else w.k end, w.at > 0 from w;
  else
    return query with recursive w as (
      (select h.key as k, position(p_delimiter in substring(h.key from from_key)) as at, 1 as n
       from heads h where h.bucket = p_bucket and h.key >= next_key and h.key < stop and not h.marker
       order by h.key limit 1)
      union all
      select x.key, position(p_delimiter in substring(x.key from from_key)), w.n + 1
      from w cross join lateral (
        select h.key from heads h where h.bucket = p_bucket and h.key < stop and not h.marker
          and h.key >= case when w.at = 0 then w.k || '\x00'
            when beyond is null then bytes_successor(substring(w.k for plen + w.at + dlen - 1))
            else substring(w.k for plen + w.at - 1) || beyond end
        order by h.key limit 1) x
      where w.n < p_max
    ) select case when w.at > 0 then substring(w.k for plen + w.at + dlen - 1) else w.k end, w.at > 0 from w;
  end if;
end $$;

-- list_as_of gives a page of a bucket as it stood at a moment: keys that had an object then, with the version that was
-- current, and folded prefixes that held one. It looks at p_budget keys at the most; when that is used up
-- before the page is
-- full, a last row without version and not folded says after which key to go on.
create function list_as_of(p_bucket bigint, p_prefix bytea, p_delimiter bytea, p_after bytea, p_until bytea,
  p_at timestamptz, p_max integer, p_budget integer)
returns table (key bytea, folded boolean, number bigint) language plpgsql stable
set plan_cache_mode = force_generic_plan set enable_seqscan = off set enable_hashjoin = off
  set enable_mergejoin = off as $$
#variable_conflict use_column
declare
  cursor_key bytea := p_prefix; inclusive boolean := true; r record; at integer; fold bytea; seen integer; n integer := 0; step integer := 32;
  plen integer := length(p_prefix); looked integer := 0; stop bytea := coalesce(p_until, beyond_keys());
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
    for r in select k.key, case when k.created <= p_at then case
      when k.marker then null else k.number end else o.number end as number
             from (select h.key, h.number, h.marker, h.created from heads h where h.bucket = p_bucket
               and h.key >= cursor_key and h.key < stop order by h.key limit step) k
             left join lateral (select case when y.marker then null else y.number end as number from history y
                   where k.created > p_at and y.bucket = p_bucket and y.key = k.key and y.created <= p_at
                     order by y.number desc limit 1) o on true
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
      cursor_key := bytes_successor(fold); inclusive := true;
      step := 1; -- what is folded is often told by its first key
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
