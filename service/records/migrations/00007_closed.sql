-- +goose Up
-- A case is closed by a person, or by evidence that what had failed succeeds, with
-- what helped; it is opened again when it comes back.
alter table cases drop constraint cases_state_check;
alter table cases add constraint cases_state_check check (state in ('received', 'reading', 'open', 'climbing', 'unreadable', 'healthy', 'closed'));
alter table cases add column closed_by text not null default '', add column closed_note text not null default '', add column cause text not null default '';
update cases set cause = coalesce(docket->'why'->0->>'cause', '') where docket is not null;

-- +goose Down
update cases set state = 'open' where state = 'closed';
alter table cases drop column closed_by, drop column closed_note, drop column cause;
alter table cases drop constraint cases_state_check;
alter table cases add constraint cases_state_check check (state in ('received', 'reading', 'open', 'climbing', 'unreadable', 'healthy'));
