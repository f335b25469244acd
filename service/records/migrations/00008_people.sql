-- +goose Up
-- What a person may do, and at which sites; none named means all.
alter table people
    add column role text not null default 'work' check (role in ('see', 'work', 'approve', 'administer')),
    add column sites jsonb not null default '[]',
    add column ended_at timestamptz,
    alter column token_hash drop not null;
update people set role = 'administer';

create table tokens (
    id         bigint generated always as identity primary key,
    person_id  bigint not null references people on delete cascade,
    name       text not null,
    hash       bytea not null unique,
    created_at timestamptz not null default now(),
    expires_at timestamptz,
    used_at    timestamptz,
    ended_at   timestamptz
);
create index tokens_by_person on tokens (person_id);
insert into tokens (person_id, name, hash, created_at) select id, 'first', token_hash, created_at from people where token_hash is not null;

alter table sessions
    add column id bigint generated always as identity unique,
    add column token_id bigint references tokens on delete cascade,
    add column address text not null default '',
    add column created_at timestamptz not null default now();

-- Who did what to which machine: added to and never changed.
create table audit (
    number  bigint primary key,
    at      timestamptz not null,
    who     text not null,
    token   text not null,
    address text not null,
    action  text not null,
    object  text not null,
    outcome text not null check (outcome in ('done', 'refused')),
    detail  text not null,
    before  bytea not null,
    hash    bytea not null
);
-- +goose StatementBegin
create function audit_stays() returns trigger language plpgsql as $$
begin
    raise exception 'the audit is added to and never changed';
end $$;
-- +goose StatementEnd
create trigger audit_stays before update or delete on audit for each row execute function audit_stays();
create trigger audit_stays_whole before truncate on audit for each statement execute function audit_stays();

-- How long remedies took where they were proven.
create table took (
    id      bigint generated always as identity primary key,
    remedy  text not null,
    seconds float8 not null
);
create index took_by_remedy on took (remedy, id desc);
insert into took (remedy, seconds)
    select r->>'remedy', (r->>'took')::float8 / 1e9 from (select id, runs from climbs order by id) c, jsonb_array_elements(c.runs) r
    where r->>'outcome' = 'proven' and r->>'remedy' <> '';

-- +goose Down
drop table took, audit;
drop function audit_stays;
alter table sessions drop column id, drop column token_id, drop column address, drop column created_at;
drop table tokens;
delete from people where token_hash is null;
alter table people drop column role, drop column sites, drop column ended_at, alter column token_hash set not null;
