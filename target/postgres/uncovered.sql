-- What the model of a schema does not describe, with the names of the first few.
WITH other (what, oid, classid, name) AS (
    SELECT 'operator', o.oid, 'pg_operator'::regclass, o.oid::regoperator::text FROM pg_operator o
    UNION ALL SELECT 'operator class', o.oid, 'pg_opclass'::regclass, o.opcname::text FROM pg_opclass o
    UNION ALL SELECT 'operator family', o.oid, 'pg_opfamily'::regclass, o.opfname::text FROM pg_opfamily o
    UNION ALL SELECT 'cast', c.oid, 'pg_cast'::regclass, format('%s as %s', format_type(c.castsource, NULL), format_type(c.casttarget, NULL)) FROM pg_cast c
    UNION ALL SELECT 'conversion', c.oid, 'pg_conversion'::regclass, c.conname::text FROM pg_conversion c
    UNION ALL SELECT 'base type', t.oid, 'pg_type'::regclass, format_type(t.oid, NULL) FROM pg_type t WHERE t.typtype = 'b' AND t.typelem = 0
    UNION ALL SELECT 'text search configuration', t.oid, 'pg_ts_config'::regclass, t.cfgname::text FROM pg_ts_config t
    UNION ALL SELECT 'text search dictionary', t.oid, 'pg_ts_dict'::regclass, t.dictname::text FROM pg_ts_dict t
    UNION ALL SELECT 'text search parser', t.oid, 'pg_ts_parser'::regclass, t.prsname::text FROM pg_ts_parser t
    UNION ALL SELECT 'text search template', t.oid, 'pg_ts_template'::regclass, t.tmplname::text FROM pg_ts_template t
    UNION ALL SELECT 'language', l.oid, 'pg_language'::regclass, l.lanname::text FROM pg_language l
    UNION ALL SELECT 'transform', t.oid, 'pg_transform'::regclass, format_type(t.trftype, NULL) FROM pg_transform t
    UNION ALL SELECT 'access method', m.oid, 'pg_am'::regclass, m.amname::text FROM pg_am m
    UNION ALL SELECT 'user mapping', u.umid, 'pg_user_mapping'::regclass, format('%s for %s', u.srvname, u.usename) FROM pg_user_mappings u
    UNION ALL SELECT 'subscription', s.oid, 'pg_subscription'::regclass, s.subname::text FROM pg_subscription s WHERE s.subdbid = (SELECT oid FROM pg_database WHERE datname = current_database())
    UNION ALL SELECT 'large object', l.oid, 'pg_largeobject_metadata'::regclass, l.oid::text FROM pg_largeobject_metadata l
    UNION ALL SELECT 'security label', s.objoid, s.classoid, s.provider FROM pg_seclabel s
)
SELECT what, count(*)::int, (array_agg(name ORDER BY name))[1:5] FROM other o
WHERE o.oid >= 16384 AND NOT EXISTS (SELECT FROM pg_depend d WHERE d.classid = o.classid AND d.objid = o.oid AND d.deptype IN ('e', 'i'))
GROUP BY what ORDER BY what
