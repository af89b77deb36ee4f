-- What lists show of a deployment's plan, so that a plan of thousands of steps is not read for them.
ALTER TABLE records.deployment ADD COLUMN outline jsonb, ADD COLUMN planned integer;
COMMENT ON COLUMN records.deployment.outline IS 'the plan without its actions; null for one that a service without this column wrote';
COMMENT ON COLUMN records.deployment.planned IS 'how many actions the plan has; null as for outline';
