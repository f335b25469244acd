-- +goose Up
-- An order may be given to one machine alone, by a person.
alter table orders add column remedy text not null default '';
alter table orders add column title text not null default '';
alter table orders add column ordered_by text not null default '';
create index orders_by_case on orders (case_number, id) where rollout_id is null;

-- A machine that was started from a stick asks to be let in: by a code on its screen, which somebody types far away.
create table knocks (
    id          bigint generated always as identity primary key,
    hash        bytea not null unique,       -- of the code
    public      bytea not null unique,
    hardware    text not null default '',
    tells       text not null default '',    -- what it says of itself
    address     text not null default '',
    made_at     timestamptz not null default now(),
    expires_at  timestamptz not null,
    agent_id    bigint references agents on delete set null,
    admitted_by text not null default '',
    site        text not null default ''     -- where it stands, by who let it in
);
-- Its agent is let in beside the machine's own, for some hours.
alter table agents add column stick boolean not null default false;
alter table agents add column expires_at timestamptz;
drop index agents_by_machine;
create unique index agents_by_machine on agents (machine, stick) where ended_at is null;

-- +goose Down
drop index agents_by_machine;
delete from agents where stick;
create unique index agents_by_machine on agents (machine) where ended_at is null;
alter table agents drop column expires_at;
alter table agents drop column stick;
drop table knocks;
drop index orders_by_case;
delete from orders where rollout_id is null;
alter table orders drop column ordered_by;
alter table orders drop column title;
alter table orders drop column remedy;
