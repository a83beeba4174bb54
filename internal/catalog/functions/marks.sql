-- mark_changed counts a change of what processes keep in memory: its argument names the mark.
create function mark_changed() returns trigger language plpgsql as $$
begin
  update marks set value = value + 1 where name = tg_argv[0];
  return null;
end $$;

create trigger mark_changed after insert or update or delete on grants
  for each statement execute function mark_changed('grants');
create trigger mark_changed after insert or update or delete on buckets
  for each statement execute function mark_changed('buckets');
create trigger mark_changed after insert or update or delete on damage
  for each statement execute function mark_changed('damage');
-- That a key was used changes nothing about it.
create trigger mark_made after insert or delete on access_keys
  for each statement execute function mark_changed('keys');
create trigger mark_changed after update of name, sealed, active, role, limits, rate, expires, replaced, operator,
  revision on access_keys
  for each statement execute function mark_changed('keys');
-- What is left of an account's quota, and the placement that is fixed, are known with its buckets.
create trigger mark_changed after update of quota, placement, placement_fixed on accounts
  for each statement execute function mark_changed('buckets');
create trigger mark_changed after insert or update or delete on tiers
  for each statement execute function mark_changed('tiers');
create trigger mark_changed after insert or update or delete on volumes
  for each statement execute function mark_changed('tiers');
-- How an endpoint stands is asked of the database.
create trigger mark_made after insert or delete on endpoints
  for each statement execute function mark_changed('endpoints');
create trigger mark_changed after update of revision, sealed on endpoints
  for each statement execute function mark_changed('endpoints');
create trigger mark_changed after insert or update or delete on replications
  for each statement execute function mark_changed('replications');
create trigger mark_made after insert or delete on replication_targets
  for each statement execute function mark_changed('replications');
