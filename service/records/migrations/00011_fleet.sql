-- +goose Up
create table cohorts (
    id          bigint generated always as identity primary key,
    key         text not null unique,
    fingerprint jsonb not null,
    title       text not null,
    name        text not null default '',
    muted       boolean not null default false,
    rule        jsonb,            -- what a person said of it: for cases to come as well
    watch       jsonb not null default '{}',
    family      text not null,
    tries       bigint not null,  -- machines of the family that had been tried when it was looked at last
    machines    integer not null default 0,
    first_at    timestamptz not null,
    last_at     timestamptz not null
);
create index cohorts_by_last on cohorts (last_at desc, id desc);

create table outbreaks (
    id        bigint generated always as identity primary key,
    cohort_id bigint not null references cohorts,
    raised_at timestamptz not null default now(),
    raised_by bigint not null references cases,
    machines  integer not null,   -- of the cohort when it was raised
    watch     jsonb not null,
    ended_at  timestamptz,
    held      text not null default '',   -- what is held back: a release, an update, a package
    held_by   text not null default '',
    held_at   timestamptz,
    lifted_by text not null default '',
    lifted_at timestamptz
);
create index outbreaks_by_cohort on outbreaks (cohort_id, id desc);
create unique index outbreaks_going_on on outbreaks (cohort_id) where ended_at is null;

create table tries (
    family text primary key,
    count  bigint not null
);
create table attribute_counts (
    attribute text primary key,
    machines  integer not null
);

alter table cases add column cohort_id bigint references cohorts;
create index cases_by_cohort on cases (cohort_id, number desc) where cohort_id is not null;
alter table machines
    add column traits jsonb,
    add column attributes jsonb not null default '[]',
    add column alike text not null default '';   -- model and release: twins have it in common
create index machines_by_alike on machines (alike, id) where alike <> '' and state = 'healthy';

create table notices (
    id         bigint generated always as identity primary key,
    kind       text not null,
    body       jsonb not null,
    created_at timestamptz not null default now(),
    due_at     timestamptz not null default now(),
    tries      integer not null default 0,
    sent_at    timestamptz,
    problem    text not null default ''
);
create index notices_due on notices (due_at) where sent_at is null;

-- +goose Down
drop table notices;
drop index machines_by_alike;
alter table machines drop column traits, drop column attributes, drop column alike;
drop index cases_by_cohort;
alter table cases drop column cohort_id;
drop table attribute_counts, tries, outbreaks, cohorts;
