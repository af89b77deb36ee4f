-- Who is told of what happens, and what became of it.
CREATE TABLE records.hook (
    name    text        NOT NULL PRIMARY KEY,
    url     text        NOT NULL,
    secret  text        NOT NULL,
    events  text[]      NOT NULL,
    lane    text        NOT NULL,
    made_by text        NOT NULL,
    made_at timestamptz NOT NULL DEFAULT now()
);
COMMENT ON COLUMN records.hook.secret IS 'where the service finds it: env:NAME or file:PATH';

CREATE TABLE records.delivery (
    id       bigint      NOT NULL GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    hook     text        NOT NULL REFERENCES records.hook ON DELETE CASCADE,
    type     text        NOT NULL,
    event    text        NOT NULL,
    body     text        NOT NULL,
    made_at  timestamptz NOT NULL DEFAULT now(),
    state    text        NOT NULL DEFAULT 'waiting',
    tries    int         NOT NULL DEFAULT 0,
    next_at  timestamptz NOT NULL DEFAULT now(),
    status   int         NOT NULL DEFAULT 0,
    says     text        NOT NULL DEFAULT '',
    ended_at timestamptz
);
CREATE INDEX delivery_waiting ON records.delivery (next_at) WHERE state = 'waiting';
CREATE INDEX delivery_newest ON records.delivery (hook, id DESC);
