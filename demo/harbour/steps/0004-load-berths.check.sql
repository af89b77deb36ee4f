SELECT count(*) = 8 FROM harbour.berth;
SELECT count(*) = 3 FROM harbour.quay;
