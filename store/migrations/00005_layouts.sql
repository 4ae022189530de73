-- +goose Up
-- Record layouts that pipelines share, with all their versions.
CREATE TABLE layouts (
	id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	name text NOT NULL UNIQUE,
	layout jsonb NOT NULL,
	version int NOT NULL DEFAULT 1,
	changed_at timestamptz NOT NULL DEFAULT now(),
	changed_by text NOT NULL
);
CREATE TABLE layout_versions (
	layout_id bigint NOT NULL REFERENCES layouts ON DELETE CASCADE,
	version int NOT NULL,
	layout jsonb NOT NULL,
	saved_at timestamptz NOT NULL DEFAULT now(),
	saved_by text NOT NULL,
	PRIMARY KEY (layout_id, version)
);

-- What a connection holds, as it was last listed, so that it is browsed and searched
-- at once.
CREATE TABLE catalogue (
	connection_id bigint NOT NULL REFERENCES connections ON DELETE CASCADE,
	path text NOT NULL,
	parent text NOT NULL,
	name text NOT NULL,
	type text NOT NULL,
	opens boolean NOT NULL,
	rows bigint,
	bytes bigint,
	detail text NOT NULL DEFAULT '',
	lowered text GENERATED ALWAYS AS (lower(path)) STORED, -- what is searched
	PRIMARY KEY (connection_id, path)
);
CREATE INDEX catalogue_parent ON catalogue (connection_id, parent, name);
CREATE TABLE catalogue_state (
	connection_id bigint PRIMARY KEY REFERENCES connections ON DELETE CASCADE,
	connection_changed_at timestamptz NOT NULL,
	listed_at timestamptz NOT NULL DEFAULT now(),
	entries bigint NOT NULL,
	took_ms bigint NOT NULL,
	failed text NOT NULL DEFAULT ''
);

-- Profiles of tables and files, kept to be compared with the one before.
CREATE TABLE profiles (
	id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
	connection_id bigint NOT NULL REFERENCES connections ON DELETE CASCADE,
	path text NOT NULL,
	made_at timestamptz NOT NULL DEFAULT now(),
	made_by text NOT NULL,
	rows bigint NOT NULL,
	whole boolean NOT NULL,
	columns jsonb NOT NULL
);
CREATE INDEX profiles_path ON profiles (connection_id, path, id DESC);

-- Rows that came to an inbound address, until a pipeline has read them.
CREATE TABLE inbox (
	connection_id bigint NOT NULL REFERENCES connections ON DELETE CASCADE,
	n bigint GENERATED ALWAYS AS IDENTITY,
	came_at timestamptz NOT NULL DEFAULT now(),
	body jsonb NOT NULL,
	PRIMARY KEY (connection_id, n)
);

-- +goose Down
DROP TABLE inbox, profiles, catalogue_state, catalogue, layout_versions, layouts;
