UPDATE harbour.vessel SET depth = draught_m WHERE depth IS DISTINCT FROM draught_m;
