-- +goose Up
-- Who has a pipeline's sheet open; only the last seconds count, so nothing is lost with it.
CREATE UNLOGGED TABLE presence (
	pipeline_id bigint NOT NULL REFERENCES pipelines ON DELETE CASCADE,
	person text NOT NULL,
	step text NOT NULL,
	changed boolean NOT NULL,
	seen_at timestamptz NOT NULL DEFAULT now(),
	PRIMARY KEY (pipeline_id, person)
);

-- +goose Down
DROP TABLE presence;
