-- +goose Up
alter table site_rules add column holds boolean not null default false;   -- what an outbreak points to is held back at once
alter table outbreaks add column by_rule boolean not null default false;  -- held at the sites with that rule alone

-- +goose Down
alter table outbreaks drop column by_rule;
alter table site_rules drop column holds;
