-- Releases: sealed points in a lane's order. Their steps are versions, which
-- never change.
CREATE TABLE records.release (
    lane   text        NOT NULL REFERENCES records.lane,
    name   text        NOT NULL,
    digest text        NOT NULL,
    body   jsonb       NOT NULL,
    steps  bigint[]    NOT NULL,
    cut_at timestamptz NOT NULL,
    PRIMARY KEY (lane, name)
);
CREATE UNIQUE INDEX release_digest ON records.release (lane, digest);

ALTER TABLE records.deployment ADD COLUMN release text;
