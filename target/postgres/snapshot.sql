-- What a schema holds: a row for each object, with its kind, its name, the
-- table or view that it belongs to, and its properties as the server writes
-- them. Run with an empty search path, so that every name is qualified. Options
-- that begin with pg_ are stamps of the server's own, and no part of a schema. $1 is
-- the application's schemas; null for all but the system's and Vorrang's.
WITH application AS (
    SELECT n.oid, n.nspname, n.nspowner, n.nspacl FROM pg_namespace n
    WHERE n.nspname !~ '^pg_' AND n.nspname NOT IN ('information_schema', 'vorrang') AND ($1::text[] IS NULL OR n.nspname = ANY ($1))
      AND NOT EXISTS (SELECT FROM pg_depend d WHERE d.classid = 'pg_namespace'::regclass AND d.objid = n.oid AND d.deptype = 'e')
), member AS (
    SELECT classid, objid FROM pg_depend WHERE deptype = 'e'
), relation AS (
    SELECT c.*, format('%I.%I', a.nspname, c.relname) AS name FROM pg_class c JOIN application a ON a.oid = c.relnamespace
    WHERE c.relkind IN ('r', 'p', 'f', 'v', 'm', 'S') AND c.relpersistence <> 't'
      AND NOT EXISTS (SELECT FROM member m WHERE m.classid = 'pg_class'::regclass AND m.objid = c.oid)
), owned AS ( -- sequences that belong to a column: a for serial, i for identity
    SELECT d.objid, d.refobjid, d.refobjsubid, d.deptype FROM pg_depend d JOIN pg_class s ON s.oid = d.objid AND s.relkind = 'S'
    WHERE d.classid = 'pg_class'::regclass AND d.refclassid = 'pg_class'::regclass AND d.refobjsubid > 0 AND d.deptype IN ('a', 'i')
), sequence AS (
    SELECT s.seqrelid, concat_ws(' ', 'AS', format_type(s.seqtypid, NULL), 'START', s.seqstart, 'INCREMENT', s.seqincrement, 'MINVALUE', s.seqmin,
        'MAXVALUE', s.seqmax, 'CACHE', s.seqcache, CASE WHEN s.seqcycle THEN 'CYCLE' END) AS options FROM pg_sequence s
), object (kind, name, of, props) AS (
    SELECT 'extension', quote_ident(e.extname), '', json_build_object('version', e.extversion, 'schema', n.nspname)
    FROM pg_extension e JOIN pg_namespace n ON n.oid = e.extnamespace WHERE e.extname <> 'plpgsql'
    UNION ALL
    SELECT 'schema', quote_ident(a.nspname), '', json_build_object('owner', a.nspowner::regrole, 'grants', CASE WHEN a.nspacl IS NOT NULL THEN nullif(coalesce((SELECT string_agg(i::text, ', ' ORDER BY i::text) FROM unnest(a.nspacl) i), 'none'), (SELECT string_agg(i::text, ', ' ORDER BY i::text) FROM unnest(acldefault('n', a.nspowner)) i)) END,
        'comment', s.description)
    FROM application a LEFT JOIN pg_description s ON s.classoid = 'pg_namespace'::regclass AND s.objoid = a.oid
    UNION ALL
    SELECT CASE r.relkind WHEN 'v' THEN 'view' WHEN 'm' THEN 'materialized view' WHEN 'S' THEN 'sequence' ELSE 'table' END, r.name, '',
        json_build_object('owner', r.relowner::regrole, 'comment', s.description,
            'grants', CASE WHEN r.relacl IS NOT NULL THEN nullif(coalesce((SELECT string_agg(i::text, ', ' ORDER BY i::text) FROM unnest(r.relacl) i), 'none'), (SELECT string_agg(i::text, ', ' ORDER BY i::text) FROM unnest(acldefault(CASE r.relkind WHEN 'S' THEN 's' ELSE 'r' END::"char", r.relowner)) i)) END,
            'unlogged', CASE WHEN r.relpersistence = 'u' THEN 'yes' END,
            'partitioned', CASE WHEN r.relkind = 'p' THEN pg_get_partkeydef(r.oid) END,
            'partition', CASE WHEN r.relispartition THEN pg_get_expr(r.relpartbound, r.oid) END,
            'inherits', (SELECT string_agg(i.inhparent::regclass::text, ', ' ORDER BY i.inhseqno) FROM pg_inherits i WHERE i.inhrelid = r.oid),
            'of type', CASE WHEN r.reloftype <> 0 THEN format_type(r.reloftype, NULL) END,
            'options', CASE WHEN r.reloptions IS NOT NULL THEN (SELECT string_agg(o, ', ' ORDER BY o) FROM unnest(r.reloptions) o WHERE o !~ '^pg_') END,
            'tablespace', CASE WHEN r.reltablespace <> 0 THEN (SELECT t.spcname FROM pg_tablespace t WHERE t.oid = r.reltablespace) END,
            'access method', (SELECT m.amname FROM pg_am m WHERE m.oid = r.relam AND m.amname <> 'heap'),
            'replica identity', CASE WHEN r.relkind IN ('r', 'p') THEN CASE r.relreplident WHEN 'n' THEN 'nothing' WHEN 'f' THEN 'full' WHEN 'i' THEN 'index' END END,
            'row security', CASE WHEN r.relforcerowsecurity THEN 'forced' WHEN r.relrowsecurity THEN 'enabled' END,
            'definition', CASE WHEN r.relkind IN ('v', 'm') THEN pg_get_viewdef(r.oid) END,
            'populated', CASE WHEN r.relkind = 'm' AND NOT r.relispopulated THEN 'no' END,
            'server', CASE WHEN r.relkind = 'f' THEN (SELECT f.srvname FROM pg_foreign_table t JOIN pg_foreign_server f ON f.oid = t.ftserver WHERE t.ftrelid = r.oid) END,
            'foreign options', CASE WHEN r.relkind = 'f' THEN (SELECT array_to_string(t.ftoptions, ', ') FROM pg_foreign_table t WHERE t.ftrelid = r.oid) END,
            'sequence', q.options,
            'owned by', (SELECT format('%s.%I', o.refobjid::regclass, a.attname) FROM pg_attribute a WHERE a.attrelid = o.refobjid AND a.attnum = o.refobjsubid))
    FROM relation r LEFT JOIN pg_description s ON s.classoid = 'pg_class'::regclass AND s.objoid = r.oid AND s.objsubid = 0 LEFT JOIN sequence q ON q.seqrelid = r.oid
    LEFT JOIN owned o ON o.objid = r.oid
    WHERE o.deptype IS DISTINCT FROM 'i'
    UNION ALL
    SELECT 'column', format('%s.%I', r.name, a.attname), r.name,
        json_build_object('type', format_type(a.atttypid, a.atttypmod), 'null', CASE WHEN a.attnotnull THEN 'no' END,
            'default', CASE WHEN a.attgenerated = '' THEN pg_get_expr(d.adbin, d.adrelid) END,
            'generated', CASE WHEN a.attgenerated <> '' THEN pg_get_expr(d.adbin, d.adrelid) END,
            'identity', CASE a.attidentity WHEN 'a' THEN 'always' WHEN 'd' THEN 'by default' END
                || coalesce(' ' || q.options, ''),
            'collation', CASE WHEN a.attcollation <> t.typcollation THEN a.attcollation::regcollation::text END,
            'storage', CASE WHEN a.attstorage <> t.typstorage THEN CASE a.attstorage WHEN 'p' THEN 'plain' WHEN 'e' THEN 'external' WHEN 'm' THEN 'main' ELSE 'extended' END END,
            'compression', CASE a.attcompression WHEN 'p' THEN 'pglz' WHEN 'l' THEN 'lz4' END,
            'statistics', CASE WHEN a.attstattarget >= 0 THEN a.attstattarget END,
            'options', CASE WHEN a.attoptions::text ~ 'n_distinct' THEN (SELECT string_agg(o, ', ' ORDER BY o) FROM unnest(a.attoptions) o WHERE o !~ '^pg_') END,
            'foreign options', array_to_string(a.attfdwoptions, ', '),
            'inherited', CASE WHEN a.attinhcount > 0 AND NOT a.attislocal THEN 'yes' END,
            'grants', CASE WHEN a.attacl IS NOT NULL THEN (SELECT string_agg(i::text, ', ' ORDER BY i::text) FROM unnest(a.attacl) i) END, 'comment', s.description)
    FROM relation r JOIN pg_attribute a ON a.attrelid = r.oid AND a.attnum > 0 AND NOT a.attisdropped JOIN pg_type t ON t.oid = a.atttypid
    LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
    LEFT JOIN pg_description s ON s.classoid = 'pg_class'::regclass AND s.objoid = r.oid AND s.objsubid = a.attnum
    LEFT JOIN owned o ON o.refobjid = r.oid AND o.refobjsubid = a.attnum AND o.deptype = 'i' LEFT JOIN sequence q ON q.seqrelid = o.objid
    WHERE r.relkind <> 'S'
    UNION ALL
    SELECT 'constraint', format('%s.%I', r.name, k.conname), r.name, json_build_object('definition', pg_get_constraintdef(k.oid), 'comment', s.description)
    FROM relation r JOIN pg_constraint k ON k.conrelid = r.oid AND k.contype IN ('c', 'f', 'p', 'u', 'x') AND k.conparentid = 0 AND (k.conislocal OR k.coninhcount = 0)
    LEFT JOIN pg_description s ON s.classoid = 'pg_constraint'::regclass AND s.objoid = k.oid
    UNION ALL
    SELECT 'index', format('%I.%I', n.nspname, c.relname), r.name,
        json_build_object('definition', pg_get_indexdef(i.indexrelid), 'valid', CASE WHEN NOT i.indisvalid THEN 'no' END, 'clustered', CASE WHEN i.indisclustered THEN 'yes' END,
            'replica identity', CASE WHEN i.indisreplident THEN 'yes' END, 'tablespace', CASE WHEN c.reltablespace <> 0 THEN (SELECT t.spcname FROM pg_tablespace t WHERE t.oid = c.reltablespace) END,
            'partition of', CASE WHEN c.relispartition THEN (SELECT h.inhparent::regclass FROM pg_inherits h WHERE h.inhrelid = c.oid) END, 'comment', s.description)
    FROM relation r JOIN pg_index i ON i.indrelid = r.oid JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_namespace n ON n.oid = c.relnamespace
    LEFT JOIN pg_description s ON s.classoid = 'pg_class'::regclass AND s.objoid = c.oid AND s.objsubid = 0
    WHERE NOT EXISTS (SELECT FROM pg_constraint k WHERE k.conindid = c.oid AND k.conrelid = r.oid AND k.contype IN ('p', 'u', 'x'))
    UNION ALL
    SELECT 'function', format('%I.%I(%s)', a.nspname, p.proname, pg_get_function_identity_arguments(p.oid)), '',
        json_build_object('owner', p.proowner::regrole, 'comment', s.description,
            'grants', CASE WHEN p.proacl IS NOT NULL THEN nullif(coalesce((SELECT string_agg(i::text, ', ' ORDER BY i::text) FROM unnest(p.proacl) i), 'none'), (SELECT string_agg(i::text, ', ' ORDER BY i::text) FROM unnest(acldefault('f', p.proowner)) i)) END,
            'definition', CASE p.prokind WHEN 'a' THEN (SELECT 'aggregate ' || concat_ws(', ', 'state ' || format_type(g.aggtranstype, NULL), 'by ' || g.aggtransfn::text, 'final ' || nullif(g.aggfinalfn::text, '-'),
                    'combine ' || nullif(g.aggcombinefn::text, '-'), 'initial ' || g.agginitval, 'kind ' || g.aggkind::text, 'sort ' || nullif(g.aggsortop, 0)::regoperator::text)
                FROM pg_aggregate g WHERE g.aggfnoid = p.oid) ELSE pg_get_functiondef(p.oid) END)
    FROM application a JOIN pg_proc p ON p.pronamespace = a.oid LEFT JOIN pg_description s ON s.classoid = 'pg_proc'::regclass AND s.objoid = p.oid
    WHERE NOT EXISTS (SELECT FROM member m WHERE m.classid = 'pg_proc'::regclass AND m.objid = p.oid)
    UNION ALL
    SELECT 'trigger', format('%s.%I', r.name, t.tgname), r.name, json_build_object('definition', pg_get_triggerdef(t.oid),
        'fires', CASE t.tgenabled WHEN 'D' THEN 'never' WHEN 'R' THEN 'on replicas' WHEN 'A' THEN 'always' END, 'comment', s.description)
    FROM relation r JOIN pg_trigger t ON t.tgrelid = r.oid AND NOT t.tgisinternal LEFT JOIN pg_description s ON s.classoid = 'pg_trigger'::regclass AND s.objoid = t.oid
    WHERE coalesce((to_jsonb(t) ->> 'tgparentid')::oid, 0) = 0
    UNION ALL
    SELECT 'rule', format('%s.%I', r.name, w.rulename), r.name, json_build_object('definition', pg_get_ruledef(w.oid),
        'fires', CASE w.ev_enabled WHEN 'D' THEN 'never' WHEN 'R' THEN 'on replicas' WHEN 'A' THEN 'always' END, 'comment', s.description)
    FROM relation r JOIN pg_rewrite w ON w.ev_class = r.oid AND w.rulename <> '_RETURN' LEFT JOIN pg_description s ON s.classoid = 'pg_rewrite'::regclass AND s.objoid = w.oid
    UNION ALL
    SELECT 'policy', format('%s.%I', r.name, p.polname), r.name,
        json_build_object('for', CASE p.polcmd WHEN 'r' THEN 'select' WHEN 'a' THEN 'insert' WHEN 'w' THEN 'update' WHEN 'd' THEN 'delete' ELSE 'all' END,
            'restrictive', CASE WHEN NOT p.polpermissive THEN 'yes' END, 'using', pg_get_expr(p.polqual, p.polrelid), 'check', pg_get_expr(p.polwithcheck, p.polrelid), 'comment', s.description,
            'to', (SELECT string_agg(CASE o WHEN 0 THEN 'public' ELSE o::regrole::text END, ', ' ORDER BY 1) FROM unnest(p.polroles) o))
    FROM relation r JOIN pg_policy p ON p.polrelid = r.oid LEFT JOIN pg_description s ON s.classoid = 'pg_policy'::regclass AND s.objoid = p.oid
    UNION ALL
    SELECT 'type', format('%I.%I', a.nspname, t.typname), '',
        json_build_object('owner', t.typowner::regrole, 'comment', s.description, 'is', CASE t.typtype WHEN 'e' THEN 'enum' WHEN 'c' THEN 'composite' WHEN 'd' THEN 'domain' ELSE 'range' END,
            'grants', CASE WHEN t.typacl IS NOT NULL THEN nullif(coalesce((SELECT string_agg(i::text, ', ' ORDER BY i::text) FROM unnest(t.typacl) i), 'none'), (SELECT string_agg(i::text, ', ' ORDER BY i::text) FROM unnest(acldefault('T', t.typowner)) i)) END,
            'labels', (SELECT string_agg(quote_literal(l.enumlabel), ', ' ORDER BY l.enumsortorder) FROM pg_enum l WHERE l.enumtypid = t.oid),
            'attributes', (SELECT string_agg(format('%I %s', b.attname, format_type(b.atttypid, b.atttypmod)), ', ' ORDER BY b.attnum) FROM pg_attribute b WHERE t.typtype = 'c' AND b.attrelid = t.typrelid AND b.attnum > 0 AND NOT b.attisdropped),
            'base', CASE WHEN t.typtype = 'd' THEN format_type(t.typbasetype, t.typtypmod) END, 'default', CASE WHEN t.typtype = 'd' THEN t.typdefault END,
            'null', CASE WHEN t.typtype = 'd' AND t.typnotnull THEN 'no' END,
            'collation', CASE WHEN t.typtype = 'd' AND t.typcollation <> (SELECT b.typcollation FROM pg_type b WHERE b.oid = t.typbasetype) THEN t.typcollation::regcollation::text END,
            'constraints', (SELECT string_agg(format('%I %s', k.conname, pg_get_constraintdef(k.oid)), ', ' ORDER BY k.conname) FROM pg_constraint k WHERE k.contypid = t.oid AND k.contype = 'c'),
            'range', (SELECT concat_ws(', ', format_type(g.rngsubtype, NULL), 'collation ' || nullif(g.rngcollation, 0)::regcollation::text, 'canonical ' || nullif(g.rngcanonical::text, '-'), 'diff ' || nullif(g.rngsubdiff::text, '-')) FROM pg_range g WHERE g.rngtypid = t.oid))
    FROM application a JOIN pg_type t ON t.typnamespace = a.oid AND t.typtype IN ('e', 'c', 'd', 'r') LEFT JOIN pg_description s ON s.classoid = 'pg_type'::regclass AND s.objoid = t.oid
    WHERE (t.typtype <> 'c' OR EXISTS (SELECT FROM pg_class c WHERE c.oid = t.typrelid AND c.relkind = 'c'))
      AND NOT EXISTS (SELECT FROM member m WHERE m.classid = 'pg_type'::regclass AND m.objid = t.oid)
    UNION ALL
    SELECT 'statistics', format('%I.%I', a.nspname, x.stxname), x.stxrelid::regclass::text, json_build_object('owner', x.stxowner::regrole, 'definition', pg_get_statisticsobjdef(x.oid),
        'target', CASE WHEN x.stxstattarget >= 0 THEN x.stxstattarget END, 'comment', s.description)
    FROM application a JOIN pg_statistic_ext x ON x.stxnamespace = a.oid LEFT JOIN pg_description s ON s.classoid = 'pg_statistic_ext'::regclass AND s.objoid = x.oid
    UNION ALL
    SELECT 'event trigger', quote_ident(e.evtname), '', json_build_object('owner', e.evtowner::regrole, 'on', e.evtevent, 'calls', e.evtfoid::regprocedure, 'tags', array_to_string(e.evttags, ', '),
        'fires', CASE e.evtenabled WHEN 'D' THEN 'never' WHEN 'R' THEN 'on replicas' WHEN 'A' THEN 'always' END)
    FROM pg_event_trigger e WHERE NOT EXISTS (SELECT FROM member m WHERE m.classid = 'pg_event_trigger'::regclass AND m.objid = e.oid)
    UNION ALL
    SELECT 'publication', quote_ident(p.pubname), '', json_build_object('owner', p.pubowner::regrole, 'all tables', CASE WHEN p.puballtables THEN 'yes' END,
        'publishes', concat_ws(', ', CASE WHEN p.pubinsert THEN 'insert' END, CASE WHEN p.pubupdate THEN 'update' END, CASE WHEN p.pubdelete THEN 'delete' END, CASE WHEN p.pubtruncate THEN 'truncate' END),
        'tables', (SELECT string_agg(concat_ws(' ', t.prrelid::regclass::text, 'columns ' || nullif(to_jsonb(t) ->> 'prattrs', ''), 'where ' || nullif(pg_get_expr((to_jsonb(t) ->> 'prqual')::pg_node_tree, t.prrelid), '')), ', ' ORDER BY t.prrelid::regclass::text) FROM pg_publication_rel t WHERE t.prpubid = p.oid))
    FROM pg_publication p
    UNION ALL
    SELECT 'default privileges', concat_ws(' ', d.defaclrole::regrole, CASE d.defaclobjtype WHEN 'r' THEN 'tables' WHEN 'S' THEN 'sequences' WHEN 'f' THEN 'functions' WHEN 'T' THEN 'types' ELSE 'schemas' END, 'in ' || a.nspname), '',
        json_build_object('grants', (SELECT string_agg(i::text, ', ' ORDER BY i::text) FROM unnest(d.defaclacl) i))
    FROM pg_default_acl d LEFT JOIN application a ON a.oid = d.defaclnamespace WHERE d.defaclnamespace = 0 OR a.oid IS NOT NULL
)
SELECT kind, name, of, props::text FROM object
