-- +goose Up
-- Each machine names its latest case and that case's state, and parts of names
-- are found by an index, so that lists of a hundred thousand machines need not
-- look through all of them.
create extension if not exists pg_trgm;
alter table machines add column latest bigint references cases, add column state text not null default 'received';
update machines set latest = c.number, state = c.state
    from (select distinct on (machine_id) machine_id, number, state from cases order by machine_id, number desc) c where c.machine_id = machines.id;
create index machines_by_latest on machines (latest);
create index machines_by_state on machines (state, name);
create index machines_by_part on machines using gin ((name || ' ' || site) gin_trgm_ops);
create index machines_by_name_part on machines using gin (name gin_trgm_ops);

-- +goose StatementBegin
create function note_state() returns trigger language plpgsql as $$
begin
    update machines set state = new.state, latest = new.number where id = new.machine_id and (latest is null or latest <= new.number);
    return null;
end $$;
-- +goose StatementEnd
create trigger note_new_case after insert on cases for each row execute function note_state();
create trigger note_state after update of state on cases for each row when (old.state is distinct from new.state) execute function note_state();

-- +goose Down
drop trigger note_state on cases;
drop trigger note_new_case on cases;
drop function note_state;
drop index machines_by_name_part, machines_by_part;
alter table machines drop column latest, drop column state;
