-- +goose Up
-- The follower of usage is moved by the service from here on.
select 1;

-- +goose Down
select 1/0; -- there is no way back: a follower is moved by the service now
