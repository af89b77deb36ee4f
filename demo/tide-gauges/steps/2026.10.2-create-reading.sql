CREATE TABLE reading (
    gauge   text          NOT NULL REFERENCES gauge,
    at      timestamptz   NOT NULL,
    level_m numeric(6, 3) NOT NULL,
    PRIMARY KEY (gauge, at)
) PARTITION BY RANGE (at);
CREATE TABLE reading_2026 PARTITION OF reading FOR VALUES FROM ('2026-01-01') TO ('2027-01-01');
