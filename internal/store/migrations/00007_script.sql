-- +goose Up

-- What a suite wants of its project, and where it is kept: in a folder that it was handed in
-- from, or here, where it is written.
alter table suite_revision add column asks jsonb not null default '{}';
alter table suite_revision add column origin text not null default 'folder' check (origin in ('folder', 'kept'));
alter table suite_revision add column handed_by text not null default '';

-- Values that nothing shows, sealed by the key of the services.
create table secret (
  project_id bigint not null references project,
  name       text not null,
  sealed     bytea not null,
  set_at     timestamptz not null default now(),
  set_by     text not null,
  primary key (project_id, name)
);

-- Test accounts. One is lent to a lease for as long as that lasts: it is free where that has
-- ended, whatever has become of its holder.
create table account (
  id         bigint generated always as identity primary key,
  project_id bigint not null references project,
  name       text not null,
  user_name  text not null,
  fields     jsonb not null default '[]', -- names of what else it holds
  sealed     bytea not null,
  lease_id   bigint,
  lent_at    timestamptz,
  added_at   timestamptz not null default now(),
  added_by   text not null,
  removed_at timestamptz
);
create index on account (project_id, name) where removed_at is null;

-- The account that a leg waits for, '' for none. It is not placed until some lease ends.
alter table leg add column blocked text not null default '';
create index on leg (project_id) where blocked <> '';

-- What screens of an app had on them, once each, with the first screen where it was seen.
create table seen_element (
  project_id bigint not null references project,
  app_id     bigint not null references app,
  id         text not null,
  text       text not null,
  role       text not null,
  screen     text not null,
  seen_at    timestamptz not null default now(),
  primary key (app_id, id, text, role)
);

-- In which order the cases of a run's legs run, and a run whose steps are told one by one.
alter table run add column case_order text not null default 'written' check (case_order in ('written', 'random'));
alter table run add column tells_steps boolean not null default false;
