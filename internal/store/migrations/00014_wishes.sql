-- +goose Up

-- What a call with an Idempotency-Key has made: the same call again gives the same. A row is taken before anything is made,
-- in the transaction that makes it, so that of two such calls at once the second waits for the first. Runs keep their own
-- keys, for as long as they are kept themselves.
create table wish (
  project_id bigint not null references project,
  key text not null check (length(key) between 1 and 200),
  kind text not null,
  digest bytea not null,
  made bigint,
  at timestamptz not null default now(),
  primary key (project_id, key)
);
create index wish_old on wish (project_id, at);
