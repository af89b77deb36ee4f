SELECT indisvalid FROM pg_index WHERE indexrelid = 'harbour.port_call_arrival'::regclass;
