-- +goose Up
alter table agents add column held jsonb;   -- what its machine holds back, as it says itself, each with its problem

create table site_rules (
    site      text primary key,
    opens     text not null default '',      -- when orders may be begun, 20:00; empty for always
    closes    text not null default '',
    zone      text not null default 'UTC',
    at_once   integer not null default 0,    -- machines on which an order may be carried out at a time; 0 for any number
    set_by    text not null,
    set_at    timestamptz not null default now()
);

-- +goose Down
drop table site_rules;
alter table agents drop column held;
