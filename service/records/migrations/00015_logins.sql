-- +goose Up
create table logins (
    issuer    text not null,
    subject   text not null,
    person_id bigint not null references people on delete cascade,
    primary key (issuer, subject)
);

-- +goose Down
drop table logins;
