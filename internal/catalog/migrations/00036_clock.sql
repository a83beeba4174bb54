-- +goose Up
-- The highest time that was told, and jumps of the database's clock: until somebody says that it is right, rules of ages
-- wait; what was written in the doubtful stretch is as old as the jump.
create table clock (
  one     boolean primary key default true check (one),
  highest timestamptz not null default 'epoch',
  began   timestamptz not null default 'epoch', -- since when it goes without a jump
  turn    bigint not null default 0 -- how often somebody said that it is right although it went back
);
insert into clock default values;
create table clock_jumps (
  id       bigint generated always as identity primary key,
  since    timestamptz not null, -- the doubtful stretch, in the time that was told then
  until    timestamptz not null,
  at       timestamptz not null, -- where the clock came to; before until when it jumped back
  state    smallint not null default 0, -- 0: asked about, 1: right, 2: it went back again
  decided  timestamptz,
  by       text not null default ''
);

-- +goose Down
drop table clock_jumps, clock;
