-- +goose Up

-- How a device is as its host sees it, and the state that follows from that when
-- no lease has it and nobody has sidelined it.
alter table device add column condition jsonb not null default '{}';
alter table device add column ready_state text not null default 'idle';
alter table device add column ready_reason text not null default '';
alter table device add column sideline jsonb;
alter table device add column removed_at timestamptz; -- what ran on it still refers to it
alter table device add column used bigint not null default 0; -- leases it has had
create index on device (project_id) where sideline is not null;

-- What a host's site offers, and what is taken of the host.
alter table host add column offer jsonb not null default '{}';
alter table host add column load jsonb not null default '{}';

-- Something that a person, or the service, has a host do outside of leases.
create table errand (
  id         bigint generated always as identity primary key,
  project_id bigint not null references project,
  host_id    bigint not null references host,
  device     text not null default '', -- by name: it may not be there yet, or no more
  what       text not null,
  args       jsonb not null default '{}',
  asked_by   text not null,
  asked_at   timestamptz not null default now(),
  done_at    timestamptz,
  trouble    text not null default '',
  remedy     text not null default '',
  result     jsonb
);
create index on errand (host_id) where done_at is null;
create index on errand (project_id, device, id);

create table licence_accepted (
  project_id  bigint not null references project,
  name        text not null,
  digest      text not null, -- of the text that was shown
  accepted_by text not null,
  accepted_at timestamptz not null default now(),
  primary key (project_id, name, digest)
);

create table lineup (
  id         bigint generated always as identity primary key,
  project_id bigint not null references project,
  name       text not null,
  text       text not null,
  saved_by   text not null,
  saved_at   timestamptz not null default now(),
  unique (project_id, name)
);

-- Devices that the package of a leg does not run on, or that whoever asked may not use.
alter table leg add column never bigint[] not null default '{}';
alter table run add column leave_installed boolean not null default false;
alter table run add column lineup text not null default '';

alter table build add column note text not null default '';
alter table build add column pinned boolean not null default false;
create table build_label (
  build_id bigint not null references build on delete cascade,
  key      text not null,
  value    text not null,
  primary key (build_id, key)
);
create index on build_label (key, value);

-- What retention may take away; nothing where there is no row.
create table retention (
  project_id bigint primary key references project,
  keep       int not null default 0, -- builds of each app that always stay, newest first
  days       int not null default 0, -- builds younger than that stay
  changed_by text not null,
  changed_at timestamptz not null default now()
);
alter table build add column removed_at timestamptz; -- its packages are gone; its runs stay

-- An upload that is under way; its bytes wait in the blob store's staging area.
create table upload (
  id         text primary key,
  project_id bigint not null references project,
  created_by text not null,
  created_at timestamptz not null default now()
);

-- A page from which a phone can install a build, for a time.
create table handover (
  digest     bytea primary key, -- SHA-256 of the code in its address
  project_id bigint not null references project,
  build_id   bigint not null references build on delete cascade,
  made_by    text not null,
  expires_at timestamptz not null
);
