-- +goose Up

-- What these records are known by: folders of services hold it, so that none is served for two databases.
create table identity (
  single bool primary key default true check (single),
  id   uuid not null default gen_random_uuid()
);
insert into identity default values;
