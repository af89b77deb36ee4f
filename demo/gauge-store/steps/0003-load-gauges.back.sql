DELETE FROM gauge WHERE code IN ('NM-1', 'NM-2', 'NM-3');
