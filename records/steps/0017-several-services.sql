-- Several services on the same records. A service lives as long as a session of its holds the advisory lock of its number:
-- no clock decides.
CREATE TABLE records.service (
    id         integer     GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    host       text        NOT NULL,
    process    integer     NOT NULL,
    version    text        NOT NULL,
    knows      text        NOT NULL,
    started_at timestamptz NOT NULL DEFAULT now(),
    ended_at   timestamptz
);
COMMENT ON COLUMN records.service.knows IS 'the newest step of the records that its program has';
COMMENT ON COLUMN records.service.ended_at IS 'when it said that it stops; null for one that lives or was killed';

CREATE FUNCTION records.lives(service integer) RETURNS boolean LANGUAGE sql STABLE AS $$
    SELECT EXISTS (SELECT FROM pg_catalog.pg_locks WHERE locktype = 'advisory' AND classid = 1987015217 AND objid = service::oid
        AND objsubid = 2 AND granted
        AND database = (SELECT oid FROM pg_catalog.pg_database WHERE datname = pg_catalog.current_database()))
$$;
COMMENT ON FUNCTION records.lives IS 'whether a service holds the lock of its number (1987015217, number)';

-- Whose it is: only that service writes to it, until another one takes it over since the first does not live any more.
ALTER TABLE records.deployment ADD COLUMN service integer, ADD COLUMN cancel text;
ALTER TABLE records.rehearsal ADD COLUMN service integer, ADD COLUMN cancel text;
ALTER TABLE records.scratch ADD COLUMN service integer;
ALTER TABLE records.scheduled ADD COLUMN service integer;
ALTER TABLE records.delivery ADD COLUMN service integer;
COMMENT ON COLUMN records.deployment.cancel IS 'who asked for its end; null for nobody';
COMMENT ON COLUMN records.rehearsal.cancel IS 'who asked for its end; null for nobody';
CREATE INDEX deployment_of_service ON records.deployment (service) WHERE outcome = 'running';
CREATE INDEX rehearsal_of_service ON records.rehearsal (service) WHERE state = 'running';
CREATE INDEX submission_of_lane ON records.submission (lane, id);

-- What one service at a time does, such as the looks at an environment.
CREATE TABLE records.task (
    name    text    NOT NULL PRIMARY KEY,
    service integer NOT NULL
);

CREATE TABLE records.rehearsal_event (
    rehearsal bigint NOT NULL REFERENCES records.rehearsal ON DELETE CASCADE,
    seq       bigint NOT NULL,
    body      jsonb  NOT NULL,
    PRIMARY KEY (rehearsal, seq)
);

-- Wrong tries of one address to be one person, and what each address may still try.
CREATE UNLOGGED TABLE records.wrong_sign_in (
    name    text        NOT NULL,
    address text        NOT NULL,
    wrong   integer     NOT NULL,
    next_at timestamptz NOT NULL,
    refused integer     NOT NULL DEFAULT 0,
    seen_at timestamptz NOT NULL,
    PRIMARY KEY (name, address)
);
CREATE UNLOGGED TABLE records.sign_in_budget (
    address text             NOT NULL PRIMARY KEY,
    tries   double precision NOT NULL,
    at      timestamptz      NOT NULL
);

-- Who is on the way back from an OpenID Connect provider.
CREATE TABLE records.openid_sign_in (
    state    text        NOT NULL PRIMARY KEY,
    cookie   text        NOT NULL,
    nonce    text        NOT NULL,
    verifier text        NOT NULL,
    expires  timestamptz NOT NULL
);
COMMENT ON COLUMN records.openid_sign_in.cookie IS 'its SHA-256';
