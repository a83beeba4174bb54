-- +goose Up
-- Who may do what. The account of the first key operates the service.
alter table accounts
  add column operator boolean not null default false,
  add column note     text not null default '',
  add column quota    bigint,                 -- bytes of all its buckets; null: none
  add column buckets  integer,                -- how many it may have; null: any number
  add column revision integer not null default 1;
update accounts set operator = true where id = (select account from access_keys order by created limit 1);

alter table access_keys
  add column note       text not null default '',
  add column role       smallint not null default 3,   -- see access.Role
  add column limits     jsonb not null default '[]',   -- what it is limited to: [{"bucket", "prefix" in hex}]
  add column rate       integer not null default 0,    -- requests a second and process; 0: any number
  add column expires    timestamptz,
  add column created_by text not null default '',
  add column used       timestamptz,
  add column used_from  text not null default '',
  add column replaced   text,                          -- the key that replaced it
  add column revision   integer not null default 1;
create index access_keys_account on access_keys (account, created);

create table people (
  name      text primary key,
  password  text not null,                    -- argon2id, RFC 9106, in its usual coding
  operator  boolean not null default false,
  active    boolean not null default true,
  note      text not null default '',
  must_change boolean not null default false, -- the password was given by somebody else
  failures  integer not null default 0,
  locked    timestamptz,                      -- no try before then
  created   timestamptz not null default now(),
  created_by text not null default '',
  signed_in timestamptz,
  revision  integer not null default 1
);

create table memberships (
  person  text not null references people on delete cascade,
  account bigint not null references accounts on delete cascade,
  role    smallint not null,
  primary key (person, account)
);

drop table sessions;
create table sessions (
  id      bigint generated always as identity primary key,
  token   bytea not null unique,              -- SHA-256 of the cookie's token
  person  text references people on delete cascade,
  key     text references access_keys on delete cascade,
  account text not null,                      -- that it acts in
  forgery text not null,                      -- the token that changes must carry
  source  text not null default '',
  program text not null default '',           -- that signed in, as it names itself
  created timestamptz not null,
  seen    timestamptz not null,
  expires timestamptz not null,
  check ((person is null) <> (key is null))
);

create table grants (
  id         bigint generated always as identity primary key,
  bucket     bigint not null references buckets,
  prefix     bytea not null default '',
  to_kind    smallint not null,               -- see access.GranteeKind
  to_name    text not null default '',
  rights     smallint not null,               -- see access.Rights
  expires    timestamptz,
  note       text not null default '',
  created    timestamptz not null default now(),
  created_by text not null,
  revision   integer not null default 1,
  unique (bucket, prefix, to_kind, to_name)
);
create index grants_to on grants (to_kind, to_name);

-- Changes whenever somebody's access does, so that a process learns of it in one small look.
create table access_state (version bigint not null);
insert into access_state values (1);

-- What somebody did to access, and what was refused. Apart from the journal of objects.
create table trail (
  id      bigint generated always as identity primary key,
  at      timestamptz not null,
  kind    text not null,                      -- see catalog.TrailKinds
  account text not null default '',           -- whose affair it is
  who     text not null,
  source  text not null default '',
  subject text not null default '',           -- what it was done to
  times   integer not null default 1,         -- the same, gathered
  detail  jsonb not null default '{}'
);
create index trail_at on trail (at, id);
create index trail_account on trail (account, id);

-- Keys under which the data keys of sealed bodies are wrapped; sealed under the master key themselves.
create table body_keys (
  id      smallint generated always as identity primary key,
  sealed  bytea not null,
  created timestamptz not null default now()
);
alter table buckets add column sealing boolean not null default false;  -- new bodies are encrypted at rest
alter table uploads add column sealed boolean not null default false;   -- so are its parts

-- +goose Down
alter table uploads drop column sealed;
alter table buckets drop column sealing;
drop table body_keys, trail, access_state, grants, sessions, memberships, people;
alter table access_keys drop column note, drop column role, drop column limits, drop column rate, drop column expires,
  drop column created_by, drop column used, drop column used_from, drop column replaced, drop column revision;
alter table accounts drop column operator, drop column note, drop column quota, drop column buckets,
  drop column revision;
create table sessions (token bytea primary key, key text not null references access_keys on delete cascade,
  forgery text not null, created timestamptz not null, expires timestamptz not null);
