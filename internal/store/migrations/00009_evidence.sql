-- +goose Up

-- What is kept of a run, by sort: its own rules and its plan's. Those of suites stand in suites.
alter table run add column keep jsonb not null default '{}';
-- Somebody wants its evidence to stay, whatever retention says.
alter table run add column pinned_by text not null default '';

-- Sorts of evidence that there is none of, with the reason.
alter table result add column not_kept jsonb not null default '[]';

-- What is to be known of a piece without opening it, and why its content is gone where it is.
alter table evidence add column facts jsonb;
alter table evidence add column kept_at timestamptz not null default now();
alter table evidence add column gone text not null default '';
create index on evidence (project_id, kept_at, id) where gone = '' and digest <> '';
create index on evidence (project_id, sort, name, run_id);

-- How long, and how much, evidence stays; 0 for as long as there is.
create table evidence_retention (
  project_id  bigint primary key references project,
  passed_days int not null default 0, -- of what passed
  days        int not null default 0, -- of all of it
  bytes       bigint not null default 0,
  changed_by  text not null,
  changed_at  timestamptz not null default now()
);

-- Crashes of an app, each stack once.
create table crash (
  id         bigint generated always as identity primary key,
  project_id bigint not null references project,
  app_id     bigint not null,
  key        text not null, -- of its stack, addresses and generated names aside
  title      text not null,
  stack      jsonb not null, -- the frames that the key is made of
  unique (project_id, app_id, key)
);

-- Where they were met.
create table crash_met (
  crash_id   bigint not null references crash,
  project_id bigint not null,
  run_id     bigint not null,
  build_id   bigint not null,
  lease_id   bigint not null,
  leg_id     bigint not null,
  case_index int not null,
  at         timestamptz not null default now(),
  primary key (lease_id, case_index, crash_id)
);
create index on crash_met (crash_id);
create index on crash_met (run_id);
