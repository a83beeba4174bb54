-- +goose Up
-- Operating the service is given to a key by an operator; it no longer follows from the account. Keys that
-- operated keep it: docs/operations.md says what to look at after the upgrade.
alter table access_keys add column operator boolean not null default false;
update access_keys k set operator = true from accounts a
  where a.id = k.account and a.operator and k.role = 3 and k.limits = '[]';
alter table access_keys add constraint operators_administer check (not operator or role = 3 and limits = '[]');

-- Signatures of calls that changed something, until they would be too old anyway: each counts once.
create table signatures (
  signature bytea primary key,
  until     timestamptz not null
);
create index signatures_until on signatures (until);

-- Tries to sign in, by what they are counted for: a name, an address, a device. Known and unknown names alike.
create table sign_in_tries (
  what    bytea primary key,                  -- SHA-256 of the kind and the name
  failed  integer not null default 0,
  under_way integer not null default 0,
  begun   timestamptz not null,               -- the last one
  until   timestamptz                         -- none before then
);
create index sign_in_tries_begun on sign_in_tries (begun);

-- Devices from which somebody signed in: strangers' failures do not hold them up.
create table devices (
  token   bytea primary key,                  -- SHA-256 of the cookie's token
  person  text references people on delete cascade,
  key     text references access_keys on delete cascade,
  seen    timestamptz not null,
  check ((person is null) <> (key is null))
);
create index devices_person on devices (person);
create index devices_key on devices (key);

alter table people drop column failures, drop column locked;

-- Who ordered: an order asks again, at each step, whether that one still may.
alter table orders add column account text not null default '';

-- +goose Down
alter table orders drop column account;
alter table people add column failures integer not null default 0, add column locked timestamptz;
drop table devices, sign_in_tries, signatures;
alter table access_keys drop constraint operators_administer, drop column operator;
