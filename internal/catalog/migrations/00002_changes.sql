-- +goose Up
insert into followers (name, xid, seq, upto) values ('usage', '0', 0, now());

-- +goose Down
delete from followers;
