SELECT indisvalid FROM pg_index WHERE indexrelid = 'dues.invoice_due_on'::regclass;
