-- What people add to a gate, and promotions that wait for their time.
CREATE TABLE records.approval (
    id           bigint      NOT NULL GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    lane         text        NOT NULL REFERENCES records.lane,
    environment  text        NOT NULL,
    release      text        NOT NULL,
    digest       text        NOT NULL,
    seq          bigint      NOT NULL,
    steps        jsonb       NOT NULL,
    note         text        NOT NULL,
    given_by     text        NOT NULL,
    given_at     timestamptz NOT NULL,
    withdrawn_at timestamptz
);
CREATE INDEX approval_release ON records.approval (lane, environment, digest);
COMMENT ON COLUMN records.approval.seq IS 'of the target''s ledger, when the plan was approved';
COMMENT ON COLUMN records.approval.steps IS 'the plan: what would be carried out then';

CREATE TABLE records.waiver (
    id          bigint      NOT NULL GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    lane        text        NOT NULL REFERENCES records.lane,
    environment text        NOT NULL,
    digest      text        NOT NULL,
    "check"     text        NOT NULL,
    reason      text        NOT NULL,
    given_by    text        NOT NULL,
    given_at    timestamptz NOT NULL,
    until_at    timestamptz NOT NULL,
    deployment  bigint      REFERENCES records.deployment
);
CREATE INDEX waiver_open ON records.waiver (lane, environment) WHERE deployment IS NULL;
COMMENT ON COLUMN records.waiver.digest IS 'of the release; empty for loose steps';
COMMENT ON COLUMN records.waiver.deployment IS 'that has used it up';

-- What an environment's gate asked before it was changed.
CREATE TABLE records.asking (
    id          bigint      NOT NULL GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    lane        text        NOT NULL REFERENCES records.lane,
    environment text        NOT NULL,
    change      text        NOT NULL,
    changed_by  text        NOT NULL,
    changed_at  timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX asking_environment ON records.asking (lane, environment, changed_at DESC);

CREATE TABLE records.scheduled (
    id          bigint      NOT NULL GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    lane        text        NOT NULL REFERENCES records.lane,
    environment text        NOT NULL,
    due_at      timestamptz NOT NULL,
    wish        jsonb       NOT NULL,
    actor       text        NOT NULL,
    who         jsonb       NOT NULL,
    made_at     timestamptz NOT NULL DEFAULT now(),
    state       text        NOT NULL DEFAULT 'waiting',
    says        text        NOT NULL DEFAULT '',
    deployment  bigint      REFERENCES records.deployment,
    ended_at    timestamptz
);
CREATE INDEX scheduled_waiting ON records.scheduled (due_at) WHERE state = 'waiting';

ALTER TABLE records.deployment ADD COLUMN digest text;
