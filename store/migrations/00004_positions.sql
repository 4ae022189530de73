-- +goose Up
-- How far the reads of a pipeline came, by step. Written with the epoch's commit.
CREATE TABLE positions (
	pipeline_id bigint NOT NULL REFERENCES pipelines ON DELETE CASCADE,
	step text NOT NULL,
	position jsonb NOT NULL,
	epoch bigint,
	changed_at timestamptz NOT NULL DEFAULT now(),
	changed_by text NOT NULL DEFAULT '',
	PRIMARY KEY (pipeline_id, step)
);

-- +goose Down
DROP TABLE positions;
