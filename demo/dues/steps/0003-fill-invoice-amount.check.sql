SELECT count(*) = 0 FROM dues.invoice WHERE amount_c IS NULL;
