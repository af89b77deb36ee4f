CREATE TABLE pilot (
    id       INT         NOT NULL AUTO_INCREMENT PRIMARY KEY,
    name     VARCHAR(80) NOT NULL,
    licence  CHAR(6)     NOT NULL UNIQUE,
    since    DATE        NOT NULL
);
