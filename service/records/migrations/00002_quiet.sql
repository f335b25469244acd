-- +goose Up
-- A case in which nothing failed is quiet: it stays as what the machine looks
-- like when it is well.
alter table cases drop constraint cases_state_check;
alter table cases add constraint cases_state_check check (state in ('received', 'reading', 'open', 'climbing', 'unreadable', 'quiet'));
create index machines_by_site on machines (site, name);

-- +goose Down
drop index machines_by_site;
update cases set state = 'open' where state = 'quiet';
alter table cases drop constraint cases_state_check;
alter table cases add constraint cases_state_check check (state in ('received', 'reading', 'open', 'climbing', 'unreadable'));
