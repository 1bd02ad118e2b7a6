-- +goose Up

create table project (
  id         bigint generated always as identity primary key,
  name       text not null unique,
  next_run   bigint not null default 1,
  created_at timestamptz not null default now()
);

create table access_token (
  id         bigint generated always as identity primary key,
  project_id bigint not null references project,
  kind       text not null check (kind in ('user', 'host')),
  name       text not null,
  digest     bytea not null unique, -- SHA-256 of the token; the token itself is kept nowhere
  created_at timestamptz not null default now()
);

create table instance (
  id      uuid primary key,
  address text not null,
  seen_at timestamptz not null default now()
);

create table leadership (
  one        boolean primary key default true check (one),
  epoch      bigint not null,
  instance   uuid,
  renewed_at timestamptz not null
);
insert into leadership (epoch, renewed_at) values (0, 'epoch');

create table app (
  id         bigint generated always as identity primary key,
  project_id bigint not null references project,
  name       text not null,
  next_build bigint not null default 1,
  created_at timestamptz not null default now()
);

create table app_identity (
  project_id     bigint not null references project,
  platform       text not null,
  application_id text not null,
  app_id         bigint not null references app,
  primary key (project_id, platform, application_id)
);

create table package (
  project_id bigint not null references project,
  digest     text not null,
  size       bigint not null,
  file_name  text not null,
  facts      jsonb not null,
  created_at timestamptz not null default now(),
  primary key (project_id, digest)
);

create table build (
  id           bigint generated always as identity primary key,
  project_id   bigint not null references project,
  app_id       bigint not null references app,
  number       bigint not null,
  version_name text not null,
  version_code text not null,
  created_at   timestamptz not null default now(),
  unique (app_id, number)
);

create table build_package (
  project_id bigint not null references project,
  build_id   bigint not null references build,
  kind       text not null,
  digest     text not null,
  primary key (build_id, kind),
  foreign key (project_id, digest) references package
);
create index on build_package (project_id, digest);

create table suite (
  id         bigint generated always as identity primary key,
  project_id bigint not null references project,
  name       text not null,
  unique (project_id, name)
);

create table suite_revision (
  id         bigint generated always as identity primary key,
  project_id bigint not null references project,
  suite_id   bigint not null references suite,
  number     bigint not null,
  digest     text not null,
  file_name  text not null,
  cases      jsonb not null, -- [{"name": …, "tags": […]}]
  locators   jsonb not null, -- canonical forms of all locators
  created_at timestamptz not null default now(),
  unique (suite_id, number),
  unique (suite_id, digest)
);

create table known_locator (
  project_id bigint not null references project,
  app_id     bigint not null references app,
  locator    text not null,
  primary key (project_id, app_id, locator)
);

create table host (
  id         bigint generated always as identity primary key,
  project_id bigint not null references project,
  name       text not null,
  site       text not null,
  version    text not null default '',
  link       bigint not null default 0, -- rises with every link it makes; an older link has no say
  instance   uuid,                      -- the service that holds the link, null where none does
  seen_at    timestamptz not null default now(),
  unique (project_id, name)
);

create table device (
  id         bigint generated always as identity primary key,
  project_id bigint not null references project,
  host_id    bigint not null references host,
  name       text not null,
  site       text not null,
  kind       text not null,
  platform   text not null,
  model      text not null,
  os         text not null,
  facts      jsonb not null,
  worth      int not null,
  state      text not null,
  reason     text not null default '',
  since      timestamptz not null default now(),
  last_lease bigint not null default 0,
  unique (project_id, name)
) with (fillfactor = 50);
create index on device (host_id);

create table run (
  id              bigint generated always as identity primary key,
  project_id      bigint not null references project,
  number          bigint not null,
  build_id        bigint not null references build,
  purpose         text not null check (purpose in ('suite', 'look')),
  state           text not null,
  verdict         text not null default 'none',
  seed            bigint not null,
  repeat_failed   int not null,
  after_error     int not null,
  language        text not null,
  real_time       boolean not null default false,
  asked_by        text not null,
  idempotency_key text,
  last_event      bigint not null default 0,
  open_legs       int not null,
  created_at      timestamptz not null default now(),
  started_at      timestamptz,
  finished_at     timestamptz,
  unique (project_id, number),
  unique (project_id, idempotency_key)
);

create table left_out (
  project_id  bigint not null references project,
  run_id      bigint not null references run,
  position    int not null,
  combination jsonb not null,
  reasons     jsonb not null,
  primary key (run_id, position)
);

create table leg (
  id          bigint generated always as identity primary key,
  project_id  bigint not null references project,
  run_id      bigint not null references run,
  position    int not null,
  revision_id bigint not null references suite_revision,
  digest      text not null, -- of the package
  kind        text not null,
  model       text not null,
  platform    text not null,
  os          text not null,
  language    text not null,
  device_id   bigint references device, -- this one and no other
  cases       int[] not null,           -- all of the leg's, by position in the suite
  todo        int[] not null,           -- what the next attempt runs
  state       text not null default 'waiting',
  avoid       bigint[] not null default '{}',
  used_error  int not null default 0,
  used_fail   int not null default 0,
  attempts    int not null default 0,
  unique (run_id, position)
) with (fillfactor = 75);
-- No index tells a leg's state, nor a device's: changes of it stay within the page.
create index run_open on run (id) where finished_at is null;

-- From here on tables grow by the million. What they refer to is written in the same
-- transactions and never deleted before them; foreign keys would check it again for
-- every row, and lock the run's row each time.
create sequence lease_number;
create table lease (
  id         bigint primary key, -- the lease's number, from lease_number
  project_id bigint not null,
  device_id  bigint not null,
  host_id    bigint not null,
  run_id     bigint not null,
  leg_id     bigint not null,
  attempt    int not null,
  todo       int[] not null,
  granted_at timestamptz not null default now(),
  expires_at timestamptz not null,
  end_asked  text not null default '', -- why the host should end it early
  began_at   timestamptz,
  ended_at   timestamptz,
  ended_by   text not null default '',
  trouble    text not null default '',
  last_seq   bigint not null default 0,
  circumstances jsonb
);
-- One live lease a device, whatever else goes wrong.
create unique index lease_one_live on lease (device_id) where ended_at is null;
create index lease_live on lease (host_id, id) where ended_at is null;
create index on lease (leg_id);

create table result (
  project_id bigint not null,
  lease_id   bigint not null,
  case_index int not null,
  run_id     bigint not null,
  leg_id     bigint not null,
  verdict    text not null,
  took_ms    bigint not null,
  sentence   text not null default '',
  failure    jsonb,
  steps      json,
  created_at timestamptz not null default now(),
  primary key (lease_id, case_index)
);
create index on result (run_id);
create index on result (leg_id);

create table evidence (
  id         bigint generated always as identity primary key,
  project_id bigint not null,
  run_id     bigint not null,
  lease_id   bigint not null,
  case_index int not null, -- -1 where it belongs to the whole attempt
  sort       text not null, -- picture, tree or log
  name       text not null,
  media_type text not null,
  digest     text not null,
  size       bigint not null
);
create index on evidence (run_id);
create index on evidence (digest);

-- Events of a run, gapless, in batches: one row holds the events first to last.
create table run_event (
  project_id bigint not null,
  run_id     bigint not null,
  last       bigint not null,
  first      bigint not null,
  at         timestamptz not null default now(),
  events     jsonb not null,
  primary key (run_id, last)
);

-- What the scheduler has to look at again. A hint: whoever leads rebuilds its
-- state from the tables above whenever the connection was lost.
create unlogged table dirty (
  sort smallint not null, -- 1 device, 2 leg
  id   bigint not null
);
