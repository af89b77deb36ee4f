-- Deployments to fleets: one to each target, in waves.
CREATE TABLE records.fleet_deployment (
    id          bigint      GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    lane        text        NOT NULL REFERENCES records.lane,
    environment text        NOT NULL,
    direction   text        NOT NULL,
    wish        jsonb       NOT NULL,
    waves       jsonb       NOT NULL,
    outcome     text        NOT NULL,
    says        text        NOT NULL DEFAULT '',
    actor       text        NOT NULL,
    who         jsonb       NOT NULL,
    paused      text,
    cancel      text,
    service     integer     NOT NULL,
    started_at  timestamptz NOT NULL DEFAULT now(),
    ended_at    timestamptz
);
COMMENT ON COLUMN records.fleet_deployment.wish IS 'what somebody asked for';
COMMENT ON COLUMN records.fleet_deployment.who IS 'how to find out what the actor may at each target';
COMMENT ON COLUMN records.fleet_deployment.paused IS 'who paused it; null while it goes on';
COMMENT ON COLUMN records.fleet_deployment.cancel IS 'who asked for its end; null for nobody';
COMMENT ON COLUMN records.fleet_deployment.service IS 'that runs it';
CREATE UNIQUE INDEX fleet_deployment_running ON records.fleet_deployment (lane, environment) WHERE outcome = 'running';
CREATE INDEX fleet_deployment_of_lane ON records.fleet_deployment (lane, id);

CREATE TABLE records.fleet_target (
    fleet      bigint      NOT NULL REFERENCES records.fleet_deployment,
    target     text        NOT NULL,
    place      integer     NOT NULL,
    wave       integer     NOT NULL,
    stand      text        NOT NULL,
    steps      jsonb       NOT NULL,
    says       text        NOT NULL DEFAULT '',
    deployment bigint      REFERENCES records.deployment,
    began_at   timestamptz,
    ended_at   timestamptz,
    PRIMARY KEY (fleet, target)
);
COMMENT ON COLUMN records.fleet_target.wave IS 'from 1; 0 for a target that the deployment does not change';
COMMENT ON COLUMN records.fleet_target.steps IS 'that it is to run, and no others, by number';
COMMENT ON COLUMN records.fleet_target.place IS 'in the order of the fleet';
CREATE INDEX fleet_target_of_deployment ON records.fleet_target (deployment);

-- Targets that deployments to their fleet, and gates, pass over for a while.
CREATE TABLE records.set_aside (
    lane        text        NOT NULL REFERENCES records.lane,
    environment text        NOT NULL,
    target      text        NOT NULL,
    reason      text        NOT NULL,
    set_by      text        NOT NULL,
    set_at      timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (lane, environment, target)
);

ALTER TABLE records.deployment ADD COLUMN fleet bigint REFERENCES records.fleet_deployment;
COMMENT ON COLUMN records.deployment.fleet IS 'the deployment to a fleet of which it is a part; null for none';
CREATE INDEX deployment_of_fleet ON records.deployment (fleet) WHERE fleet IS NOT NULL;
ALTER TABLE records.scheduled ADD COLUMN fleet bigint REFERENCES records.fleet_deployment;
COMMENT ON COLUMN records.scheduled.fleet IS 'the deployment to a fleet that it began; null for none';
