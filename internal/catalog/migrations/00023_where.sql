-- +goose Up
-- Of which objects a rule is, as an expression of find; '' for all.
alter table replications add column where_ text not null default '';

-- +goose Down
alter table replications drop column where_;
