-- Scratch databases that are in use. What stands here when the service starts was left behind by one that was killed.
CREATE TABLE records.scratch (
    engine    text        NOT NULL,
    reference text        NOT NULL,
    name      text        NOT NULL,
    made_at   timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (reference, name)
);
COMMENT ON COLUMN records.scratch.reference IS 'what the lane file says of the server, never a URL';
