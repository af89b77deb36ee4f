DELIMITER //
CREATE TRIGGER duty_not_past BEFORE DELETE ON duty FOR EACH ROW
BEGIN
    IF OLD.day < CURRENT_DATE THEN
        SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'a watch that was stood stays in the roster';
    END IF;
END//
DELIMITER ;

CREATE VIEW roster AS
SELECT duty.day, duty.watch, pilot.name FROM duty JOIN pilot ON pilot.id = duty.pilot_id;
