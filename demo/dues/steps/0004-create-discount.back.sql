DROP TABLE dues.discount;
