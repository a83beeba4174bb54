-- access_changed counts changes of grants, so that a process learns of them in one small look.
create function access_changed() returns trigger language plpgsql as $$
begin update access_state set version = version + 1; return null; end $$;

create trigger access_changed after insert or update or delete on grants for each statement execute function access_changed();
