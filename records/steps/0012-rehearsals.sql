-- What came of rehearsals: trials of a plan on a copy of its target.
CREATE TABLE records.rehearsal (
    id          bigint      GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    lane        text        NOT NULL,
    environment text        NOT NULL,
    plan        text        NOT NULL,
    fingerprint text        NOT NULL,
    passed      boolean     NOT NULL,
    body        jsonb       NOT NULL,
    actor       text        NOT NULL,
    release     text        NOT NULL DEFAULT '',
    at          timestamptz NOT NULL
);
COMMENT ON COLUMN records.rehearsal.plan IS 'the plan''s digest';
COMMENT ON COLUMN records.rehearsal.fingerprint IS 'of the target''s schema then, without owners and grants';
CREATE INDEX rehearsal_of ON records.rehearsal (lane, environment, plan, fingerprint, id DESC);
