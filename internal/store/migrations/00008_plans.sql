-- +goose Up

-- Saved recipes. checked_to is up to when its moments have been looked at; what came in or ended
-- before watched_from starts nothing.
create table plan (
  id           bigint generated always as identity primary key,
  project_id   bigint not null references project,
  name         text not null,
  app          text not null,
  text         text not null,
  revision     int not null default 1,
  paused       boolean not null default false,
  saved_by     text not null,
  saved_at     timestamptz not null default now(),
  checked_to   timestamptz not null default now(),
  watched_from timestamptz not null default now(),
  removed_at   timestamptz
);
create unique index on plan (project_id, lower(name)) where removed_at is null;

create table plan_revision (
  plan_id  bigint not null references plan,
  revision int not null,
  text     text not null,
  saved_by text not null,
  saved_at timestamptz not null default now(),
  primary key (plan_id, revision)
);

-- Each reason to start a plan, once: key says which. A run is made with the number of its start as
-- its idempotency key, so that a start that was interrupted is gone through again and makes no second.
create table plan_start (
  id         bigint generated always as identity primary key,
  project_id bigint not null references project,
  plan_id    bigint not null references plan,
  key        text not null,
  reason     text not null check (reason in ('time', 'arrival', 'after', 'hand')),
  due        timestamptz not null,
  state      text not null default 'due' check (state in ('due', 'started', 'left out', 'missed', 'failed')),
  told       text not null default '',  -- why it waits, or did not start
  build_id   bigint,
  asked_by   text not null,
  changed    jsonb not null default '{}', -- what is other than in the plan, for this one run
  run_id     bigint references run,
  decided_at timestamptz,
  unique (plan_id, key)
);
create index on plan_start (plan_id, id);
create index on plan_start (id) where state = 'due';

alter table run add column plan_id bigint references plan;
alter table run add column plan_revision int;
alter table run add column changed jsonb not null default '[]'; -- in words
alter table run add column factors jsonb not null default '[]'; -- that it varies, by name
alter table run add column limits jsonb not null default '{}';  -- when it ends early, and what bounds its cases
create index on run (plan_id) where plan_id is not null;
create index on run (id) where finished_at is null and limits <> '{}';
alter table run drop constraint run_case_order_check;
alter table run add check (case_order in ('written', 'random', 'failed first'));

-- A calendar can be read by whoever knows its secret, of which the digest is kept.
create table calendar_feed (
  project_id bigint primary key references project,
  digest     bytea not null unique,
  made_by    text not null,
  made_at    timestamptz not null default now()
);
