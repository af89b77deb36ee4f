UPDATE dues.invoice SET amount_c = NULL;
