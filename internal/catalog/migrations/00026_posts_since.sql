-- +goose Up
-- What had been committed when a post was made, which it does not post.
alter table posts add column since pg_snapshot not null default '1:1:';

-- +goose Down
alter table posts drop column since;
