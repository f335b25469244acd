-- +goose Up
-- Agents are called when there is something for them, so that they need not ask: by their machine, or all ('').
-- +goose StatementBegin
create function tell_agent() returns trigger language plpgsql as $$
begin
    if tg_table_name = 'orders' then
        perform pg_notify('diorthos_agent', new.machine);
    else
        perform pg_notify('diorthos_agent', '');
    end if;
    return null;
end $$;
-- +goose StatementEnd
create trigger orders_tell after insert or update of state on orders
    for each row when (new.state = 'ordered') execute function tell_agent();
create trigger outbreaks_tell after insert or update of held, lifted_at, by_rule on outbreaks
    for each row when (new.held <> '') execute function tell_agent();
create trigger site_rules_tell after insert or update or delete on site_rules
    for each statement execute function tell_agent();
create index outbreaks_held on outbreaks (held) where held <> '' and lifted_at is null;
-- When an agent was heard last changes all the time, and changes no index.
alter table agents set (fillfactor = 70);

-- A disk that was copied brings its agent's key along to other hardware.
alter table agents add column hardware text not null default '';
alter table agents add column copied_at timestamptz;
-- Who lets a roll-out go on that was halted has seen what failed so far: it halts no more for that.
alter table rollouts add column seen_failed integer not null default 0;
alter table rollouts add column seen_lost integer not null default 0;

-- +goose Down
alter table agents drop column copied_at;
alter table agents drop column hardware;
alter table rollouts drop column seen_lost;
alter table rollouts drop column seen_failed;
alter table agents reset (fillfactor);
drop index outbreaks_held;
drop trigger site_rules_tell on site_rules;
drop trigger outbreaks_tell on outbreaks;
drop trigger orders_tell on orders;
drop function tell_agent;
