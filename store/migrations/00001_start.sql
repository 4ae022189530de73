-- +goose Up
CREATE TABLE people (
	id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	login text NOT NULL UNIQUE,
	name text NOT NULL,
	role text NOT NULL CHECK (role IN ('reader', 'operator', 'builder', 'admin')),
	password_hash text NOT NULL,
	disabled boolean NOT NULL DEFAULT false,
	created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE sessions (token text PRIMARY KEY, data bytea NOT NULL, expiry timestamptz NOT NULL);
CREATE INDEX sessions_expiry ON sessions (expiry);

CREATE TABLE connections (
	id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	name text NOT NULL UNIQUE,
	kind text NOT NULL,
	settings jsonb NOT NULL,
	secrets bytea,
	changed_at timestamptz NOT NULL DEFAULT now(),
	changed_by text NOT NULL
);

CREATE TABLE pipelines (
	id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	name text NOT NULL UNIQUE,
	sheet text NOT NULL,
	version int NOT NULL DEFAULT 1,
	last_epoch bigint NOT NULL DEFAULT 0,
	changed_at timestamptz NOT NULL DEFAULT now(),
	changed_by text NOT NULL
);

CREATE TABLE pipeline_versions (
	pipeline_id bigint NOT NULL REFERENCES pipelines ON DELETE CASCADE,
	version int NOT NULL,
	sheet text NOT NULL,
	saved_at timestamptz NOT NULL DEFAULT now(),
	saved_by text NOT NULL,
	PRIMARY KEY (pipeline_id, version)
);

CREATE TABLE schedules (
	id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	pipeline_id bigint NOT NULL REFERENCES pipelines ON DELETE CASCADE,
	cron text NOT NULL,
	zone text NOT NULL,
	enabled boolean NOT NULL DEFAULT true,
	params jsonb NOT NULL DEFAULT '{}',
	next_at timestamptz,
	changed_at timestamptz NOT NULL DEFAULT now(),
	changed_by text NOT NULL
);
CREATE INDEX schedules_next ON schedules (next_at) WHERE enabled;

CREATE TABLE runs (
	id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	pipeline_id bigint NOT NULL REFERENCES pipelines ON DELETE CASCADE,
	version int NOT NULL,
	params jsonb NOT NULL DEFAULT '{}',
	state text NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'running', 'done', 'failed', 'stopped')),
	phase text NOT NULL DEFAULT '',
	message text NOT NULL DEFAULT '',
	schedule_id bigint REFERENCES schedules ON DELETE SET NULL,
	asked_by text NOT NULL,
	asked_at timestamptz NOT NULL DEFAULT now(),
	started_at timestamptz,
	ended_at timestamptz,
	heartbeat_at timestamptz,
	worker text NOT NULL DEFAULT '',
	attempts int NOT NULL DEFAULT 0,
	stop_asked_by text,
	rows_read bigint NOT NULL DEFAULT 0,
	rows_loaded bigint NOT NULL DEFAULT 0,
	rows_set_aside bigint NOT NULL DEFAULT 0,
	summary jsonb
);
CREATE INDEX runs_pipeline ON runs (pipeline_id, id DESC);
CREATE INDEX runs_open ON runs (heartbeat_at) WHERE state = 'running';

-- An epoch is written down before it is worked on, when all but the targets'
-- commits is done (prepared), and when those are (ended_at).
CREATE TABLE epochs (
	pipeline_id bigint NOT NULL REFERENCES pipelines ON DELETE CASCADE,
	number bigint NOT NULL,
	run_id bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
	started_at timestamptz NOT NULL DEFAULT now(),
	prepared jsonb,
	ended_at timestamptz,
	committed boolean NOT NULL DEFAULT false,
	PRIMARY KEY (pipeline_id, number)
);

CREATE TABLE set_aside (
	run_id bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
	n bigint GENERATED ALWAYS AS IDENTITY,
	step text NOT NULL,
	code text NOT NULL,
	sentence text NOT NULL,
	column_name text NOT NULL,
	value text NOT NULL,
	place text NOT NULL,
	line bigint NOT NULL,
	row_key text NOT NULL,
	names text[],
	cells text[],
	raw text NOT NULL,
	PRIMARY KEY (run_id, n)
);

CREATE TABLE run_log (
	run_id bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
	n bigint GENERATED ALWAYS AS IDENTITY,
	at timestamptz NOT NULL DEFAULT now(),
	level text NOT NULL,
	message text NOT NULL,
	PRIMARY KEY (run_id, n)
);

-- +goose Down
DROP TABLE run_log, set_aside, epochs, runs, schedules, pipeline_versions, pipelines, connections, sessions, people;
