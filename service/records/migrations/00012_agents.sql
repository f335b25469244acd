-- +goose Up
alter table people add column machine text not null default '';   -- an agent's: it may do nothing for another one

create table service_keys (
    name    text primary key,
    private bytea not null
);
create table agent_codes (
    hash       bytea primary key,
    machine    text not null,
    site       text not null default '',
    made_by    text not null,
    expires_at timestamptz not null,
    used_at    timestamptz
);
create table agents (
    id          bigint generated always as identity primary key,
    machine     text not null,
    person_id   bigint not null references people on delete cascade,
    public      bytea not null unique,
    enrolled_at timestamptz not null default now(),
    enrolled_by text not null,
    seen_at     timestamptz,
    ended_at    timestamptz
);
create unique index agents_by_machine on agents (machine) where ended_at is null;

create table rollouts (
    id         bigint generated always as identity primary key,
    cohort_id  bigint not null references cohorts,
    remedy     text not null,
    title      text not null,
    invasive   text not null,
    state      text not null check (state in ('going', 'paused', 'halted', 'stopped', 'done', 'taking back', 'taken back')),
    why        text not null default '',
    begun_by   text not null,
    begun_at   timestamptz not null default now(),
    changed_at timestamptz not null default now()
);
create table orders (
    id         bigint generated always as identity primary key,
    machine    text not null,
    rollout_id bigint references rollouts,
    wave       integer not null default 0,
    state      text not null check (state in ('waiting', 'ordered', 'running', 'proven', 'failed', 'refused', 'lost', 'stopped', 'taken back', 'left out')),
    case_number bigint references cases,
    rung       integer not null default 0,
    back       boolean not null default false,  -- it takes back what an earlier order did
    payload    bytea,
    signature  bytea,
    problem    text not null default '',
    made_at    timestamptz not null default now(),
    changed_at timestamptz not null default now()
);
create index orders_by_machine on orders (machine, id) where state in ('ordered', 'running');
create index orders_by_rollout on orders (rollout_id, wave, id);
create unique index orders_once on orders (rollout_id, machine) where not back;

-- +goose Down
drop table orders, rollouts, agents, agent_codes, service_keys;
delete from people where machine <> '';
alter table people drop column machine;
