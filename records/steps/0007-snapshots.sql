-- What targets' schemas are known to be, and when somebody looked for drift.
CREATE TABLE records.schema (
    digest text  NOT NULL PRIMARY KEY,
    body   bytea NOT NULL
);
COMMENT ON TABLE records.schema IS 'a schema as JSON, compressed by gzip; its digest is the SHA-256 of the JSON';

CREATE TABLE records.snapshot (
    id          bigint      NOT NULL GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    lane        text        NOT NULL,
    environment text        NOT NULL,
    digest      text        NOT NULL REFERENCES records.schema,
    fingerprint text        NOT NULL,
    why         text        NOT NULL,
    deployment  bigint      REFERENCES records.deployment,
    seq         bigint      NOT NULL,
    actor       text        NOT NULL,
    reason      text        NOT NULL DEFAULT '',
    taken_at    timestamptz NOT NULL DEFAULT now()
);
COMMENT ON COLUMN records.snapshot.seq IS 'of the ledger''s newest entry then';
CREATE INDEX snapshot_newest ON records.snapshot (lane, environment, id DESC);
CREATE INDEX snapshot_deployment ON records.snapshot (deployment);

CREATE INDEX event_effect ON records.event (deployment, seq) WHERE body ->> 'kind' = 'effect';

CREATE TABLE records.drift (
    lane        text        NOT NULL,
    environment text        NOT NULL,
    looked_at   timestamptz NOT NULL,
    since       timestamptz,
    fingerprint text        NOT NULL DEFAULT '',
    objects     int         NOT NULL DEFAULT 0,
    says        text        NOT NULL DEFAULT '',
    PRIMARY KEY (lane, environment)
);
COMMENT ON TABLE records.drift IS 'what the newest look for drift found';
COMMENT ON COLUMN records.drift.since IS 'when drift was first seen; null if there is none';
