-- +goose Up
-- What there is of a body of which copies or pieces are to be made, so that it is known whether a volume may be taken out.
alter table owed
  add column has   smallint not null default 0, -- copies or pieces
  add column lacks text[] not null default '{}'; -- directories of volumes that have none
alter table repairs add column lost int not null default 0; -- volumes that were taken out since all was whole

-- +goose Down
alter table owed drop column has, drop column lacks;
alter table repairs drop column lost;
