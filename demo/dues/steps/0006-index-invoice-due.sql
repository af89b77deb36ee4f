/*---
mode: autocommit
---*/
CREATE INDEX CONCURRENTLY invoice_due_on ON dues.invoice (due_on) WHERE paid_at IS NULL;
