-- +goose Up
-- Added to the transaction numbers by which the journal is ordered, so that the order outlives
-- the cluster that gave the first of them (catalog/order.go).
create table journal_base (base bigint not null, one boolean primary key default true check (one));
insert into journal_base (base) values (0);

-- +goose Down
drop table journal_base;
