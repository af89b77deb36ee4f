-- What the service keeps: lanes, the catalogue, deployments and their events.
CREATE SCHEMA records;

CREATE TABLE records.lane (
    name        text        NOT NULL PRIMARY KEY,
    declaration jsonb       NOT NULL,
    applied_at  timestamptz NOT NULL DEFAULT now(),
    applied_by  text        NOT NULL
);

-- The exact bytes of every version of every file ever submitted. The digest is
-- the SHA-256 of the bytes; the checksum is that of the normal text.
CREATE TABLE records.text (
    digest   text   NOT NULL PRIMARY KEY,
    checksum text   NOT NULL,
    size     bigint NOT NULL
);
CREATE INDEX text_checksum ON records.text (checksum);

CREATE TABLE records.text_part (
    digest text  NOT NULL REFERENCES records.text,
    part   int   NOT NULL,
    bytes  bytea NOT NULL,
    PRIMARY KEY (digest, part)
);
ALTER TABLE records.text_part ALTER COLUMN bytes SET STORAGE EXTERNAL;

CREATE TABLE records.submission (
    id   bigint      GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    lane text        NOT NULL REFERENCES records.lane,
    at   timestamptz NOT NULL DEFAULT now(),
    by   text        NOT NULL
);

-- Every version of every step. The newest version of a number is in the
-- catalogue, unless gone says in which submission its files were missing.
CREATE TABLE records.step (
    id         bigint NOT NULL GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    lane       text   NOT NULL REFERENCES records.lane,
    number     text   NOT NULL,
    slug       text   NOT NULL,
    options    jsonb  NOT NULL,
    forward    jsonb  NOT NULL,
    back       jsonb,
    "check"    jsonb,
    digests    text[] NOT NULL,
    submission bigint NOT NULL REFERENCES records.submission,
    newest     boolean NOT NULL,
    gone       bigint REFERENCES records.submission
);
CREATE UNIQUE INDEX step_newest ON records.step (lane, number) WHERE newest;
CREATE INDEX step_versions ON records.step (lane, number, (forward ->> 'checksum'));

-- The newest entry that was seen in a target's ledger.
CREATE TABLE records.head (
    lane        text        NOT NULL REFERENCES records.lane,
    environment text        NOT NULL,
    seq         bigint      NOT NULL,
    hash        text        NOT NULL,
    seen_at     timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (lane, environment)
);

CREATE TABLE records.deployment (
    id          bigint      NOT NULL GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    lane        text        NOT NULL REFERENCES records.lane,
    environment text        NOT NULL,
    direction   text        NOT NULL,
    outcome     text        NOT NULL,
    actor       text        NOT NULL,
    plan        jsonb       NOT NULL,
    gate        jsonb       NOT NULL,
    failure     jsonb,
    started_at  timestamptz NOT NULL DEFAULT now(),
    ended_at    timestamptz
);
CREATE UNIQUE INDEX deployment_running ON records.deployment (lane, environment) WHERE outcome = 'running';
CREATE INDEX deployment_environment ON records.deployment (lane, environment, id DESC);

CREATE TABLE records.event (
    deployment bigint NOT NULL REFERENCES records.deployment,
    seq        bigint NOT NULL,
    body       jsonb  NOT NULL,
    PRIMARY KEY (deployment, seq)
);
