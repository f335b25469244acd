-- +goose Up
create table people (
    id         bigint generated always as identity primary key,
    name       text not null unique,
    token_hash bytea not null unique,
    created_at timestamptz not null default now()
);

create table sessions (
    hash       bytea primary key,
    person_id  bigint not null references people on delete cascade,
    expires_at timestamptz not null
);

create table machines (
    id         bigint generated always as identity primary key,
    name       text not null unique,
    site       text not null default '',
    model      text not null default '',
    first_seen timestamptz not null default now(),
    last_seen  timestamptz not null default now()
);

create table bags (
    digest      text primary key,
    blob        text not null,
    size        bigint not null,
    received_at timestamptz not null default now()
);

create table cases (
    number         bigint generated always as identity primary key,
    machine_id     bigint not null references machines,
    bag_digest     text not null unique references bags,
    state          text not null check (state in ('received', 'reading', 'open', 'climbing', 'unreadable')),
    received_at    timestamptz not null default now(),
    updated_at     timestamptz not null default now(),
    received_by    text not null,
    headline       text not null default '',
    tried          text not null default '',
    rungs          int not null default 0,
    proven         int not null default 0,
    problem        text not null default '',
    docket         jsonb,
    claim          uuid,          -- of the worker that reads it
    heartbeat      timestamptz,   -- when that worker was last alive
    progress_phase text not null default '',
    progress_done  bigint not null default 0,
    progress_total bigint not null default 0
);
create index cases_by_state on cases (state, number desc);
create index cases_by_machine on cases (machine_id, number desc);

create table climbs (
    id          bigint generated always as identity primary key,
    case_number bigint not null references cases,
    person      text not null,
    host        text not null,
    state       text not null check (state in ('running', 'ended', 'cut off')),
    phase       text not null default '',
    problem     text not null default '',
    runs        jsonb not null default '[]',
    began_at    timestamptz not null default now(),
    ended_at    timestamptz
);
create index climbs_by_case on climbs (case_number, id desc);

-- Every process of the service hears of every change, once it is committed.
-- +goose StatementBegin
create function tell_case() returns trigger language plpgsql as $$
begin
    if tg_table_name = 'cases' then
        perform pg_notify('diorthos_case', new.number::text);
    else
        perform pg_notify('diorthos_case', new.case_number::text);
    end if;
    return null;
end $$;
-- +goose StatementEnd
create trigger tell_case after insert or update on cases for each row execute function tell_case();
create trigger tell_climb after insert or update on climbs for each row execute function tell_case();

-- +goose Down
drop table climbs, cases, bags, machines, sessions, people;
drop function tell_case;
