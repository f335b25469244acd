-- +goose Up
create table approvals (
    id          bigint generated always as identity primary key,
    case_number bigint not null references cases on delete cascade,
    remedy      text not null,
    person      text not null,
    at          timestamptz not null default now(),
    unique (case_number, remedy, person)
);

-- +goose Down
drop table approvals;
