DROP TABLE records.openid_sign_in, records.sign_in_budget, records.wrong_sign_in, records.rehearsal_event, records.task;
DROP INDEX records.submission_of_lane, records.rehearsal_of_service, records.deployment_of_service;
ALTER TABLE records.delivery DROP COLUMN service;
ALTER TABLE records.scheduled DROP COLUMN service;
ALTER TABLE records.scratch DROP COLUMN service;
ALTER TABLE records.rehearsal DROP COLUMN service, DROP COLUMN cancel;
ALTER TABLE records.deployment DROP COLUMN service, DROP COLUMN cancel;
DROP FUNCTION records.lives(integer);
DROP TABLE records.service;
