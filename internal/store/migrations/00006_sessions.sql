-- +goose Up

alter table project add column next_session bigint not null default 1;
alter table project add column next_finding bigint not null default 1;
-- What a session is called where nobody says otherwise.
alter table project add column session_name text not null default '{app} {build} {device} {date}';

-- Instances relay live traffic to each other; this is how they know each other.
alter table instance add column secret text not null default '';

alter table lease drop constraint lease_holder_check;
alter table lease add constraint lease_holder_check check (holder in ('attempt', 'session'));

-- A person at a device. It waits in the scheduler's queue while it is opening and has no lease.
create table session (
  id         bigint generated always as identity primary key,
  project_id bigint not null references project,
  number     bigint not null,
  name       text not null,
  purpose    text not null default '',
  asked_by   text not null,
  state      text not null default 'opening' check (state in ('opening', 'open', 'away', 'closed')),
  shared     boolean not null default false,
  device_id  bigint references device,      -- the wanted one; null for any of these:
  among      bigint[] not null default '{}',
  lineup     text not null default '',
  language   text not null default '',
  cleaning   text not null default 'app' check (cleaning in ('nothing', 'app', 'device')),
  build_id   bigint references build,       -- what is installed first, or was last
  package    text not null default '',      -- its package's digest
  app        text not null default '',      -- id of an app that is there already
  lines      jsonb not null default '[]',   -- of script, carried out first
  origin     jsonb,                         -- the case of a run that it repeats
  reads      text[] not null default '{}',  -- digests that its host may fetch
  lease_id   bigint,                        -- the one that it has now
  on_device  bigint references device,      -- that it has, or had last
  instance   uuid,                          -- where its live traffic comes together
  moving     boolean not null default false, -- it goes on on another device once this one is given back
  end_asked  text not null default '',
  why        text not null default '',      -- it was closed
  created_at timestamptz not null default now(),
  opened_at  timestamptz,
  closed_at  timestamptz,
  contact_at timestamptz not null default now(), -- when somebody was last there
  used_at    timestamptz not null default now(), -- when the device was last used
  idle_ms    bigint not null,
  away_ms    bigint not null,
  log_lines  bigint not null default 0,
  log_errors bigint not null default 0,
  unique (project_id, number)
);
create index session_going on session (id) where closed_at is null;
create index on session (build_id);

create table session_lease (
  lease_id   bigint primary key,
  session_id bigint not null references session
);
create index on session_lease (session_id);

-- What of a session stays, on its time. Numbers are those of the lease's events.
create table session_entry (
  lease_id   bigint not null,
  seq        bigint not null,
  session_id bigint not null,
  project_id bigint not null,
  at_ms      bigint not null, -- since the session was asked for
  kind       text not null,
  text       text not null,
  lines      jsonb not null default '[]',
  detail     jsonb,
  digest     text not null default '',
  media_type text not null default '',
  size       bigint not null default 0,
  primary key (lease_id, seq)
);
create index on session_entry (session_id);
create index on session_entry (digest) where digest <> '';

create table saved_place (
  project_id bigint not null references project,
  name       text not null,
  latitude   double precision not null,
  longitude  double precision not null,
  accuracy   double precision not null default 10,
  primary key (project_id, name)
);

-- Something seen that should be mended.
create table finding (
  id         bigint generated always as identity primary key,
  project_id bigint not null references project,
  number     bigint not null,
  title      text not null,
  note       text not null default '',
  state      text not null default 'open' check (state in ('open', 'mended', 'no fault')),
  mended_in  bigint references build,
  found_by   text not null,
  at         timestamptz not null default now(),
  session_id bigint references session,
  lease_id   bigint, -- of the session's entry that it is made of
  seq        bigint,
  run_id     bigint references run,
  facts      jsonb not null, -- build, device, surroundings, the way there, the log around it
  marks      jsonb not null default '[]',
  picture    text not null default '', -- digest, as it was to be seen
  changed_at timestamptz not null default now(),
  changed_by text not null default '',
  unique (project_id, number)
);
create index on finding (session_id);
create index on finding (picture) where picture <> '';

-- A checklist: things for a person to look at. Each version is a revision of a suite that no name means, so that what people
-- say of them is a run beside the automated ones.
create table checklist (
  id          bigint generated always as identity primary key,
  project_id  bigint not null references project,
  name        text not null,
  number      bigint not null, -- of the version, within the name
  text        text not null,
  revision_id bigint not null references suite_revision,
  digest      text not null,
  saved_by    text not null,
  saved_at    timestamptz not null default now(),
  unique (project_id, name, number)
);
alter table run add column checklist text not null default ''; -- its name, where people go through one by hand
