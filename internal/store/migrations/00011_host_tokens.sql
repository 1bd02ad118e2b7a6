-- +goose Up

-- A host's token speaks for the host of this name alone. One without a name is shared: any host may link with it once,
-- and is given one of its own.
alter table access_token add column host_name text;
alter table access_token add column made_by text not null default '';
alter table access_token add column used_at timestamptz; -- when a host first linked with it
alter table access_token add column withdrawn_at timestamptz;
create index on access_token (project_id, host_name) where host_name is not null;
