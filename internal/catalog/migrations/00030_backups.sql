-- +goose Up
-- Backups under way: while there is one, bodies that nobody refers to any more stay.
create table backups (
  id    bigint generated always as identity primary key,
  until timestamptz not null
);

-- +goose Down
drop table backups;
