-- A watch is six hours; it belongs to the day on which it begins.
CREATE TABLE duty (
    id       INT  NOT NULL AUTO_INCREMENT PRIMARY KEY,
    pilot_id INT  NOT NULL,
    day      DATE NOT NULL,
    watch    ENUM('night', 'morning', 'afternoon', 'evening') NOT NULL,
    CONSTRAINT duty_pilot FOREIGN KEY (pilot_id) REFERENCES pilot (id)
);

CREATE INDEX duty_day ON duty (day, watch);
