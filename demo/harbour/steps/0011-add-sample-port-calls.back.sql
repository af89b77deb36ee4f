DELETE FROM harbour.port_call c USING harbour.vessel v WHERE v.id = c.vessel_id AND v.imo IN ('9100011', '9100023', '9100035');
DELETE FROM harbour.vessel WHERE imo IN ('9100011', '9100023', '9100035');
