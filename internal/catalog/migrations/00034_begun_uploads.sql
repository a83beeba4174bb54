-- +goose Up
-- Uploads that were begun at endpoints: an interrupted one is gone on with by whoever writes the same content under the
-- same key, and given up there when nobody does.
create table begun_uploads (
  endpoint bigint not null references endpoints on delete cascade,
  bucket   text not null,
  key      bytea not null,
  upload   text not null,
  content  text not null,        -- size and digest
  held     timestamptz not null, -- somebody sends parts until then
  primary key (endpoint, bucket, key, upload)
);
create index begun_uploads_held on begun_uploads (held);

-- +goose Down
drop table begun_uploads;
