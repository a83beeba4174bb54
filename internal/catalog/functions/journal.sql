-- journal_partition makes the part of the journal that holds a month, unless it is there.
create function journal_partition(p_month timestamptz) returns void language plpgsql as $$
declare
  lo timestamptz := date_trunc('month', p_month at time zone 'UTC') at time zone 'UTC';
  hi timestamptz := (date_trunc('month', p_month at time zone 'UTC') + interval '1 month') at time zone 'UTC';
  name text := 'journal_' || to_char(p_month at time zone 'UTC', 'YYYY_MM');
begin
  perform pg_advisory_xact_lock(@PartitionLock, 1);
  if to_regclass(name) is null then
    execute format('create table %I partition of journal for values from (%L) to (%L)', name, lo, hi);
  end if;
end $$;
