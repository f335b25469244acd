-- +goose Up
-- What of the outcomes at this site counts: all since a time, or what somebody looked at and froze. One row.
create table site_knowledge (
    one        boolean primary key default true check (one),
    since      timestamptz,          -- outcomes before count no more
    frozen     jsonb,                -- what counts while it is frozen
    frozen_at  timestamptz,
    changed_by text not null default ''
);

-- +goose Down
drop table site_knowledge;
