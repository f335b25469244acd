-- +goose Up
-- What a case began with where that was words: evidence of the machine joins it later.
alter table cases
    add column call jsonb,
    add column joined_at timestamptz;
create index cases_by_call on cases (machine_id) where call is not null and joined_at is null;

-- +goose Down
alter table cases drop column call, drop column joined_at;
