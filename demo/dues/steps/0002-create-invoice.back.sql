DROP TABLE dues.invoice;
