/*---
mode: batches
batch-size: 500
pause: 10ms
---*/
UPDATE duty SET rested = TRUE WHERE rested IS NULL LIMIT :batch;
