/*---
phase: migrate
---*/
UPDATE harbour.vessel SET draught_m = depth WHERE draught_m IS DISTINCT FROM depth;
