INSERT INTO pilot (name, licence, since) VALUES
    ('A. Tern', 'NM0001', '2009-04-01'),
    ('B. Skua', 'NM0002', '2014-10-15'),
    ('C. Petrel', 'NM0003', '2021-02-01');
