-- What a target's server had counted of its objects when a step of phase expand was applied.
CREATE TABLE records.usage (
    lane        text        NOT NULL,
    environment text        NOT NULL,
    deployment  bigint      NOT NULL,
    step        text        NOT NULL,
    at          timestamptz NOT NULL,
    body        jsonb       NOT NULL,
    PRIMARY KEY (lane, environment, deployment)
);
