-- +goose Up

-- Why a person may see an element otherwise than the devices that saw it, '' once one has seen it without a doubt.
alter table seen_element add column unsure text not null default '';
