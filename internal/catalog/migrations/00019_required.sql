-- +goose Up
-- What is asked of the metadata of objects.
alter table buckets add column required jsonb; -- null: nothing

-- +goose Down
alter table buckets drop column required;
