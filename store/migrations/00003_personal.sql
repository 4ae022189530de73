-- +goose Up
-- The columns of a row set aside whose values are personal.
ALTER TABLE set_aside ADD COLUMN personal text[];

-- +goose Down
ALTER TABLE set_aside DROP COLUMN personal;
