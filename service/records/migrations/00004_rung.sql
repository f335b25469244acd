-- +goose Up
-- A climb says which rung is being taken, so that how long it will go on can be
-- told from earlier climbs.
alter table climbs add column rung integer not null default 0;

-- +goose Down
alter table climbs drop column rung;
