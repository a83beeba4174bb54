-- +goose Up
alter table regions add placements jsonb not null default '[]';

-- +goose Down
alter table regions drop placements;
