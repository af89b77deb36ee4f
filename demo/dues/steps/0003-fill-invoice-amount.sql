/*---
mode: batches
phase: migrate
batch-size: 500
pause: 50ms
---*/
UPDATE dues.invoice i SET amount_c = tonnes * per_tonne_c
FROM dues.tariff t
WHERE t.kind = i.kind AND id IN (SELECT id FROM dues.invoice WHERE amount_c IS NULL ORDER BY id LIMIT :batch);
