-- +goose Up

-- A lease is a device's exclusive hold and nothing more: what holds it is an attempt at a
-- leg, or another kind of holder. Numbers are shared, so that one number names both.
create table attempt (
  lease_id   bigint primary key,
  project_id bigint not null,
  run_id     bigint not null,
  leg_id     bigint not null,
  number     int not null,
  todo       int[] not null
);
insert into attempt (lease_id, project_id, run_id, leg_id, number, todo) select id, project_id, run_id, leg_id, attempt, todo from lease;
create index on attempt (leg_id);
alter table lease add column holder text not null default 'attempt' check (holder in ('attempt'));
alter table lease drop column run_id, drop column leg_id, drop column attempt, drop column todo;

-- A combination is a class and a list of levels: [{"factor": "language", "value": "en-GB"}].
alter table leg add column levels jsonb not null default '[]';
update leg set levels = jsonb_build_array(jsonb_build_object('factor', 'language', 'value', language));
alter table leg drop column language;
update left_out set combination = (combination - 'language') ||
  jsonb_build_object('levels', jsonb_build_array(jsonb_build_object('factor', 'language', 'value', combination->>'language')));

-- A call that is made again with the same key has to be the same call.
alter table run add column idempotency_digest bytea;

-- What `try` brought is run by its digest and never by its name; a suite that was removed
-- is off the list, and its runs stay.
alter table suite_revision add column tried boolean not null default false;
alter table suite add column removed_at timestamptz;

-- What the blob store holds, how large that is, and when somebody last had a use for it.
create table blob (
  digest      text primary key,
  size        bigint not null,
  referred_at timestamptz not null default now()
);
create index on blob (referred_at);
