-- +goose Up
-- A case in which nothing failed is healthy. A climb tells that it goes on; one
-- that fell silent is cut off.
alter table cases drop constraint cases_state_check;
update cases set state = 'healthy' where state = 'quiet';
update machines set state = 'healthy' where state = 'quiet';
alter table cases add constraint cases_state_check check (state in ('received', 'reading', 'open', 'climbing', 'unreadable', 'healthy'));
alter table climbs add column heartbeat timestamptz not null default now();
create index climbs_running on climbs (heartbeat) where state = 'running';

-- +goose Down
drop index climbs_running;
alter table climbs drop column heartbeat;
alter table cases drop constraint cases_state_check;
update cases set state = 'quiet' where state = 'healthy';
update machines set state = 'quiet' where state = 'healthy';
alter table cases add constraint cases_state_check check (state in ('received', 'reading', 'open', 'climbing', 'unreadable', 'quiet'));
