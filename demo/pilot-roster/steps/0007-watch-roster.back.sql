DROP VIEW roster;
DROP TRIGGER duty_not_past;
