-- +goose Up

-- A link that signs a browser in, once. The code in it is kept nowhere.
create table sign_in (
  digest     bytea primary key, -- SHA-256 of the code
  token_id   bigint not null references access_token on delete cascade,
  expires_at timestamptz not null,
  used_at    timestamptz
);

-- A browser that is signed in, by its cookie.
create table browser (
  digest     bytea primary key, -- SHA-256 of the cookie's value
  token_id   bigint not null references access_token on delete cascade,
  created_at timestamptz not null default now(),
  seen_at    timestamptz not null default now(),
  expires_at timestamptz not null
);

-- Counted as events are appended, under the lock that is held for that anyway: a
-- list of runs that are under way can then be read without reading their results.
alter table run add column legs int not null default 0;
alter table run add column expected int not null default 0; -- results, with those of further attempts
alter table run add column results int not null default 0;
alter table run add column fails int not null default 0;    -- results of that verdict
alter table run add column errors int not null default 0;
update run r set legs = (select count(*) from leg l where l.run_id = r.id),
                 expected = (select count(*) from result where run_id = r.id),
                 results = (select count(*) from result where run_id = r.id),
                 fails = (select count(*) from result where run_id = r.id and verdict = 'fail'),
                 errors = (select count(*) from result where run_id = r.id and verdict = 'error');

-- The lease that the device had before: its history can be walked from
-- device.last_lease without an index that every lease would pay for.
alter table lease add column before bigint not null default 0;

-- What is on a device's screen at a moment, asked for by a person.
create table sighting (
  id         bigint generated always as identity primary key,
  project_id bigint not null references project,
  device_id  bigint not null references device,
  host_id    bigint not null references host,
  asked_by   text not null,
  asked_at   timestamptz not null default now(),
  done_at    timestamptz,
  trouble    text not null default '',
  picture    text not null default '', -- digest
  tree       text not null default ''  -- digest
);
create index on sighting (host_id) where done_at is null;
create index on sighting (asked_at);
create index on build (project_id, id);
