DROP INDEX records.deployment_of_fleet;
ALTER TABLE records.scheduled DROP COLUMN fleet;
ALTER TABLE records.deployment DROP COLUMN fleet;
DROP TABLE records.set_aside, records.fleet_target, records.fleet_deployment;
