-- +goose Up

-- What a run knew of its app when it began: those locators of its suites that had
-- matched before. It does not change while the run goes on.
create table run_known (
  run_id     bigint primary key references run on delete cascade,
  project_id bigint not null references project,
  locators   jsonb not null
);

-- An error of a leg that never had a lease stands under the number of the leg, below
-- zero: every crossing that a run was asked for has a result once its leg has finished.
comment on column result.lease_id is 'the lease, or minus the leg where it never had one';

-- Which process a host is, and when that was started: of two of one name the later has it.
alter table host add column boot text not null default '';
alter table host add column started bigint not null default 0; -- milliseconds since 1970
