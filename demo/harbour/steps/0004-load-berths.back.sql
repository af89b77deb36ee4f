DELETE FROM harbour.berth;
DELETE FROM harbour.quay;
