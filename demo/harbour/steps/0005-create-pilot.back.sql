DROP TABLE harbour.pilotage;
DROP TABLE harbour.pilot;
