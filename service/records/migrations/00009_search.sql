-- +goose Up
-- What lists are searched by, in small letters and compared byte by byte: two letters are
-- in no index of threes, and a look at a hundred thousand names has to be quick then.
alter table machines
    add column name_lower text collate "C" generated always as (lower(name)) stored,
    add column search text collate "C" generated always as (lower(name || ' ' || site)) stored;
create index machines_by_name_lower on machines using gin (name_lower gin_trgm_ops);
create index machines_by_search on machines using gin (search gin_trgm_ops);
drop index machines_by_part, machines_by_name_part;

-- +goose Down
create index machines_by_part on machines using gin ((name || ' ' || site) gin_trgm_ops);
create index machines_by_name_part on machines using gin (name gin_trgm_ops);
alter table machines drop column name_lower, drop column search;
