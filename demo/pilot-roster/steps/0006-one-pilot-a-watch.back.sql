ALTER TABLE duty DROP INDEX duty_once;
