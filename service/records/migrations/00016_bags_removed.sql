-- +goose Up
-- Evidence is removed some time after its case ended; that it was there, and when it went, stays.
alter table bags add column removed_at timestamptz;
create index cases_settled on cases (updated_at) where state in ('closed', 'healthy', 'unreadable');

-- +goose Down
drop index cases_settled;
alter table bags drop column removed_at;
