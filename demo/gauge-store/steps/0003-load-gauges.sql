INSERT INTO gauge (code, site, datum_cm) VALUES
    ('NM-1', 'Nordmole head', -12),
    ('NM-2', 'Inner basin', -8),
    ('NM-3', 'Lock chamber', 0);
