-- What people and jobs tell a gate.
CREATE TABLE records.freeze (
    id          bigint      NOT NULL GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    lane        text        NOT NULL REFERENCES records.lane,
    environment text        NOT NULL,
    from_at     timestamptz NOT NULL,
    until_at    timestamptz NOT NULL CHECK (until_at > from_at),
    reason      text        NOT NULL,
    set_by      text        NOT NULL,
    set_at      timestamptz NOT NULL DEFAULT now(),
    thawed_by   text,
    thawed_at   timestamptz
);
CREATE INDEX freeze_environment ON records.freeze (lane, environment, until_at);

CREATE TABLE records.backup (
    id          bigint      NOT NULL GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    lane        text        NOT NULL REFERENCES records.lane,
    environment text        NOT NULL,
    label       text        NOT NULL,
    taken_at    timestamptz NOT NULL,
    reported_by text        NOT NULL,
    reported_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX backup_environment ON records.backup (lane, environment, taken_at DESC);
