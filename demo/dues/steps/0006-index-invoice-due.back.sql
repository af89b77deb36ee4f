DROP INDEX CONCURRENTLY dues.invoice_due_on;
