-- +goose Up
-- What the audit of an account found, and what somebody accepts of it.
create table audit_findings (
  account        bigint not null references accounts on delete cascade,
  check_name     text not null,
  subject        text not null,
  finding        jsonb not null,
  first          timestamptz not null,
  seen           timestamptz not null,             -- by the last run
  accepted_by    text not null default '',
  accepted_why   text not null default '',
  accepted_until timestamptz,                      -- null: it is not accepted
  primary key (account, check_name, subject)
);
create table audits (
  account bigint primary key references accounts on delete cascade,
  at      timestamptz not null                     -- of the last run
);

-- +goose Down
drop table audits, audit_findings;
