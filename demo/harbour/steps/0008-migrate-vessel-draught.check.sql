SELECT count(*) = 0 FROM harbour.vessel WHERE draught_m IS DISTINCT FROM depth;
