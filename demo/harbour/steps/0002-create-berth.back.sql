DROP TABLE harbour.berth;
DROP TABLE harbour.quay;
