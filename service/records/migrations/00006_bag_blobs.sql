-- +goose Up
-- What lies in the store of bags is held against what is recorded, a million times.
create index bags_by_blob on bags (blob);
create index cases_received on cases (updated_at) where state = 'received';

-- +goose Down
drop index cases_received;
drop index bags_by_blob;
