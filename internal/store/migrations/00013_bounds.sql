-- +goose Up

-- How large an upload said that it would be, in bytes: what one caller has begun is bounded in number and in sum.
alter table upload add column size bigint not null default 0;
create index upload_begun on upload (project_id, created_by);
