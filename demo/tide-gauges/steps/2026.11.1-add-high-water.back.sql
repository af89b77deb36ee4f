DROP VIEW high_water;
