DROP TABLE harbour.port_call;
