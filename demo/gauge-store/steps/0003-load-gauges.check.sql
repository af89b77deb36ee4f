SELECT count(*) = 3 FROM gauge WHERE code LIKE 'NM-%';
