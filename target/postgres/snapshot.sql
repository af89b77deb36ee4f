-- What a schema holds: a row for each object, with its kind, its name, the
-- table, view, domain or publication that it belongs to, its ids in this
-- database (which are no part of a schema), its place among its table's columns,
-- and its properties, each as "name=value", as the server writes them. Run with
-- an empty search path, so that every name is qualified. Options that begin
-- with pg_ are stamps of the server's own, and no part of a schema. $1 is the
-- application's schemas; null for all but the system's and Vorrang's.
WITH application AS MATERIALIZED (
    SELECT n.oid, n.nspname, n.nspowner, n.nspacl FROM pg_namespace n
    WHERE n.nspname !~ '^pg_' AND n.nspname NOT IN ('information_schema', 'vorrang') AND ($1::text[] IS NULL OR n.nspname = ANY ($1))
      AND NOT EXISTS (SELECT FROM pg_depend d WHERE d.classid = 'pg_namespace'::regclass AND d.objid = n.oid AND d.deptype = 'e')
), member AS MATERIALIZED (
    SELECT classid, objid FROM pg_depend WHERE deptype = 'e'
), inheriting AS MATERIALIZED (
    SELECT DISTINCT inhrelid FROM pg_inherits
), relation AS MATERIALIZED (
    SELECT c.oid, c.relkind, c.relowner, c.relacl, c.relpersistence, c.relispartition, c.relpartbound, c.reloftype, c.reloptions, c.reltoastrelid, c.reltablespace, c.relam,
        c.relreplident, c.relforcerowsecurity, c.relrowsecurity, c.relispopulated, h.inhrelid IS NOT NULL AS inherits, format('%I.%I', a.nspname, c.relname) AS name
    FROM pg_class c JOIN application a ON a.oid = c.relnamespace LEFT JOIN inheriting h ON h.inhrelid = c.oid
    WHERE c.relkind IN ('r', 'p', 'f', 'v', 'm', 'S') AND c.relpersistence <> 't'
      AND NOT EXISTS (SELECT FROM member m WHERE m.classid = 'pg_class'::regclass AND m.objid = c.oid)
), owned AS MATERIALIZED ( -- sequences that belong to a column: a for serial, i for identity
    SELECT d.objid, d.refobjid, d.refobjsubid, d.deptype FROM pg_depend d JOIN pg_sequence s ON s.seqrelid = d.objid
    WHERE d.classid = 'pg_class'::regclass AND d.refclassid = 'pg_class'::regclass AND d.refobjsubid > 0 AND d.deptype IN ('a', 'i')
), sequence AS (
    SELECT s.seqrelid, s.seqtypid, concat_ws(' ', 'START', s.seqstart, 'INCREMENT', s.seqincrement, 'MINVALUE', s.seqmin,
        'MAXVALUE', s.seqmax, 'CACHE', s.seqcache, CASE WHEN s.seqcycle THEN 'CYCLE' END) AS options FROM pg_sequence s
), object (kind, name, of, class, id, sub, place, props) AS (
    SELECT 'extension', quote_ident(e.extname), '', 'pg_extension'::regclass::oid, e.oid, 0::int, 0::int,
        ARRAY['version=' || e.extversion,
            'schema=' || quote_ident(n.nspname)]
    FROM pg_extension e JOIN pg_namespace n ON n.oid = e.extnamespace WHERE e.extname <> 'plpgsql'
    UNION ALL
    SELECT 'schema', quote_ident(a.nspname), '', 'pg_namespace'::regclass::oid, a.oid, 0::int, 0::int,
        ARRAY['owner=' || a.nspowner::regrole,
            'grants=' || CASE WHEN a.nspacl IS NOT NULL THEN nullif(coalesce((SELECT string_agg(i::text, ', ' ORDER BY i::text COLLATE "C") FROM unnest(a.nspacl) i), 'none'), (SELECT string_agg(i::text, ', ' ORDER BY i::text COLLATE "C") FROM unnest(acldefault('n', a.nspowner)) i)) END,
            'comment=' || s.description]
    FROM application a LEFT JOIN pg_description s ON s.classoid = 'pg_namespace'::regclass AND s.objoid = a.oid
    UNION ALL
    SELECT CASE r.relkind WHEN 'v' THEN 'view' WHEN 'm' THEN 'materialized view' WHEN 'S' THEN 'sequence' ELSE 'table' END, r.name, CASE WHEN o.deptype = 'i' THEN coalesce(w.name, o.refobjid::regclass::text) ELSE '' END, 'pg_class'::regclass::oid, r.oid, 0::int, 0::int,
        ARRAY['owner=' || r.relowner::regrole,
            'comment=' || s.description,
            'grants=' || CASE WHEN r.relacl IS NOT NULL THEN nullif(coalesce((SELECT string_agg(i::text, ', ' ORDER BY i::text COLLATE "C") FROM unnest(r.relacl) i), 'none'), (SELECT string_agg(i::text, ', ' ORDER BY i::text COLLATE "C") FROM unnest(acldefault(CASE r.relkind WHEN 'S' THEN 's' ELSE 'r' END::"char", r.relowner)) i)) END,
            CASE WHEN r.relpersistence = 'u' THEN 'unlogged=yes' END,
            'partitioned=' || CASE WHEN r.relkind = 'p' THEN pg_get_partkeydef(r.oid) END,
            'partition=' || CASE WHEN r.relispartition THEN pg_get_expr(r.relpartbound, r.oid) END,
            'inherits=' || CASE WHEN r.inherits THEN (SELECT string_agg(i.inhparent::regclass::text, ', ' ORDER BY i.inhseqno) FROM pg_inherits i WHERE i.inhrelid = r.oid) END,
            'of type=' || CASE WHEN r.reloftype <> 0 THEN format_type(r.reloftype, NULL) END,
            'options=' || CASE WHEN r.reloptions IS NOT NULL THEN nullif((SELECT string_agg(o, ', ' ORDER BY o COLLATE "C") FROM unnest(r.reloptions) o WHERE o !~ '^pg_'), '') END,
            'toast options=' || CASE WHEN r.reltoastrelid <> 0 THEN (SELECT string_agg('toast.' || o, ', ' ORDER BY o COLLATE "C") FROM pg_class w, unnest(w.reloptions) o WHERE w.oid = r.reltoastrelid) END,
            'tablespace=' || CASE WHEN r.reltablespace <> 0 THEN (SELECT t.spcname FROM pg_tablespace t WHERE t.oid = r.reltablespace) END,
            'access method=' || CASE WHEN r.relam NOT IN (0, 2) THEN (SELECT m.amname FROM pg_am m WHERE m.oid = r.relam) END,
            CASE WHEN r.relkind IN ('r', 'p') THEN CASE r.relreplident WHEN 'n' THEN 'replica identity=nothing' WHEN 'f' THEN 'replica identity=full' END END,
            CASE WHEN r.relforcerowsecurity THEN 'row security=' || CASE WHEN r.relrowsecurity THEN 'forced' ELSE 'forced, disabled' END WHEN r.relrowsecurity THEN 'row security=enabled' END,
            'definition=' || CASE WHEN r.relkind IN ('v', 'm') THEN pg_get_viewdef(r.oid) END,
            CASE WHEN r.relkind = 'm' AND NOT r.relispopulated THEN 'populated=no' END,
            'server=' || CASE WHEN r.relkind = 'f' THEN (SELECT quote_ident(f.srvname) FROM pg_foreign_table t JOIN pg_foreign_server f ON f.oid = t.ftserver WHERE t.ftrelid = r.oid) END,
            'foreign options=' || CASE WHEN r.relkind = 'f' THEN (SELECT (SELECT string_agg(format('%I %L', o.option_name, o.option_value), ', ' ORDER BY o.option_name COLLATE "C") FROM pg_options_to_table(t.ftoptions) o) FROM pg_foreign_table t WHERE t.ftrelid = r.oid) END,
            'sequence=' || CASE WHEN o.deptype IS DISTINCT FROM 'i' THEN concat_ws(' ', 'AS ' || format_type(q.seqtypid, NULL), q.options) END,
            CASE o.deptype WHEN 'i' THEN 'identity of=' ELSE 'owned by=' END || CASE WHEN o.objid IS NOT NULL THEN format('%s.%I', coalesce(w.name, o.refobjid::regclass::text), a.attname) END]
    FROM relation r LEFT JOIN pg_description s ON s.classoid = 'pg_class'::regclass AND s.objoid = r.oid AND s.objsubid = 0 LEFT JOIN sequence q ON q.seqrelid = r.oid LEFT JOIN owned o ON o.objid = r.oid
    LEFT JOIN relation w ON w.oid = o.refobjid LEFT JOIN pg_attribute a ON a.attrelid = o.refobjid AND a.attnum = o.refobjsubid
    UNION ALL
    SELECT 'column', r.name || '.' || quote_ident(a.attname), r.name, 'pg_class'::regclass::oid, r.oid, a.attnum::int, a.attnum::int,
        ARRAY['type=' || format_type(a.atttypid, a.atttypmod),
            CASE WHEN a.attnotnull THEN 'null=no' END,
            CASE WHEN a.attgenerated = '' THEN 'default=' ELSE 'generated=' END || CASE WHEN d.oid IS NOT NULL THEN pg_get_expr(d.adbin, CASE WHEN a.attgenerated = '' THEN 0 ELSE d.adrelid END) END, -- a default names no column, so the table need not be opened
            CASE a.attidentity WHEN 'a' THEN 'identity=always' WHEN 'd' THEN 'identity=by default' END,
            'sequence=' || CASE WHEN q.seqrelid IS NOT NULL THEN format('SEQUENCE NAME %s %s', coalesce(w.name, q.seqrelid::regclass::text), q.options) END,
            'collation=' || CASE WHEN a.attcollation <> t.typcollation THEN a.attcollation::regcollation::text END,
            CASE WHEN a.attstorage <> t.typstorage THEN CASE a.attstorage WHEN 'p' THEN 'storage=plain' WHEN 'e' THEN 'storage=external' WHEN 'm' THEN 'storage=main' ELSE 'storage=extended' END END,
            CASE a.attcompression WHEN 'p' THEN 'compression=pglz' WHEN 'l' THEN 'compression=lz4' END,
            'statistics=' || CASE WHEN a.attstattarget >= 0 THEN a.attstattarget END,
            'options=' || CASE WHEN a.attoptions::text ~ 'n_distinct' THEN nullif((SELECT string_agg(o, ', ' ORDER BY o COLLATE "C") FROM unnest(a.attoptions) o WHERE o !~ '^pg_'), '') END,
            'foreign options=' || CASE WHEN a.attfdwoptions IS NOT NULL THEN (SELECT string_agg(format('%I %L', o.option_name, o.option_value), ', ' ORDER BY o.option_name COLLATE "C") FROM pg_options_to_table(a.attfdwoptions) o) END,
            CASE WHEN a.attinhcount > 0 THEN CASE WHEN a.attislocal THEN 'inherited=merged' ELSE 'inherited=yes' END END,
            'grants=' || CASE WHEN a.attacl IS NOT NULL THEN (SELECT string_agg(i::text, ', ' ORDER BY i::text COLLATE "C") FROM unnest(a.attacl) i) END,
            'comment=' || s.description]
    FROM relation r JOIN pg_attribute a ON a.attrelid = r.oid AND a.attnum > 0 AND NOT a.attisdropped JOIN pg_type t ON t.oid = a.atttypid
    LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum AND a.atthasdef
    LEFT JOIN pg_description s ON s.classoid = 'pg_class'::regclass AND s.objoid = r.oid AND s.objsubid = a.attnum
    LEFT JOIN owned o ON o.refobjid = r.oid AND o.refobjsubid = a.attnum AND o.deptype = 'i' LEFT JOIN sequence q ON q.seqrelid = o.objid LEFT JOIN relation w ON w.oid = o.objid
    WHERE r.relkind <> 'S'
    UNION ALL -- the second half
    SELECT 'constraint', r.name || '.' || quote_ident(k.conname), r.name, 'pg_constraint'::regclass::oid, k.oid, 0::int, 0::int,
        ARRAY['definition=' || CASE WHEN k.contype = 'p' AND NOT k.condeferrable AND k.conexclop IS NULL AND i.indnatts = 1 THEN (SELECT format('PRIMARY KEY (%I)', a.attname) FROM pg_attribute a WHERE a.attrelid = k.conrelid AND a.attnum = k.conkey[1]) ELSE pg_get_constraintdef(k.oid) END,
            CASE WHEN k.contype = 'c' AND k.coninhcount > 0 THEN CASE WHEN k.conislocal THEN 'inherited=merged' ELSE 'inherited=yes' END END,
            'options=' || array_to_string(c.reloptions, ', '),
            'tablespace=' || CASE WHEN c.reltablespace <> 0 THEN (SELECT t.spcname FROM pg_tablespace t WHERE t.oid = c.reltablespace) END,
            CASE WHEN i.indisclustered THEN 'clustered=yes' END,
            CASE WHEN i.indisreplident THEN 'replica identity=yes' END,
            'partition of=' || CASE WHEN c.relispartition THEN (SELECT h.inhparent::regclass FROM pg_inherits h WHERE h.inhrelid = c.oid) END,
            'comment=' || s.description]
    FROM relation r JOIN pg_constraint k ON k.conrelid = r.oid AND (k.contype IN ('p', 'u', 'x') OR k.contype = 'f' AND k.conparentid = 0 OR k.contype = 'c')
    LEFT JOIN pg_class c ON c.oid = k.conindid AND k.contype IN ('p', 'u', 'x') LEFT JOIN pg_index i ON i.indexrelid = c.oid
    LEFT JOIN pg_description s ON s.classoid = 'pg_constraint'::regclass AND s.objoid = k.oid
    UNION ALL
    SELECT 'index', format('%I.%I', n.nspname, c.relname), r.name, 'pg_class'::regclass::oid, i.indexrelid, 0::int, 0::int,
        ARRAY['definition=' || coalesce(CASE WHEN i.indexprs IS NULL AND i.indpred IS NULL AND NOT i.indisunique AND i.indnatts = i.indnkeyatts AND c.relam = 403 AND c.reloptions IS NULL AND c.relkind = 'i' AND i.indoption::text !~ '[^0 ]' THEN
                -- the server takes long to write an index, so the plainest kind is written here, word for word as it would
                CASE WHEN i.indnatts > 1 THEN
                    (SELECT format('CREATE INDEX %I ON %s USING btree (%s)', c.relname, r.name, string_agg(quote_ident(a.attname), ', ' ORDER BY k.n))
                    FROM unnest(i.indkey::int2[], i.indclass::oid[], i.indcollation::oid[]) WITH ORDINALITY k (att, class, coll, n) JOIN pg_attribute a ON a.attrelid = r.oid AND a.attnum = k.att JOIN pg_opclass o ON o.oid = k.class
                    HAVING bool_and(o.opcdefault AND (o.opcintype = a.atttypid OR a.atttypid = 1043 AND o.opcintype = 25) AND k.coll = a.attcollation))
                WHEN o.opcdefault AND (o.opcintype = a.atttypid OR a.atttypid = 1043 AND o.opcintype = 25) AND i.indcollation[0] = a.attcollation THEN
                    format('CREATE INDEX %I ON %s USING btree (%I)', c.relname, r.name, a.attname) END END, pg_get_indexdef(i.indexrelid)),
            CASE WHEN NOT i.indisvalid AND c.relkind = 'i' THEN 'valid=no' END,
            CASE WHEN i.indisclustered THEN 'clustered=yes' END,
            CASE WHEN i.indisreplident THEN 'replica identity=yes' END,
            'tablespace=' || CASE WHEN c.reltablespace <> 0 THEN (SELECT t.spcname FROM pg_tablespace t WHERE t.oid = c.reltablespace) END,
            'partition of=' || CASE WHEN c.relispartition THEN (SELECT h.inhparent::regclass FROM pg_inherits h WHERE h.inhrelid = c.oid) END,
            'statistics=' || CASE WHEN i.indexprs IS NOT NULL THEN (SELECT string_agg(format('%s %s', a.attnum, a.attstattarget), ', ' ORDER BY a.attnum) FROM pg_attribute a WHERE a.attrelid = c.oid AND a.attstattarget >= 0) END,
            'comment=' || s.description]
    FROM relation r JOIN pg_index i ON i.indrelid = r.oid JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_namespace n ON n.oid = c.relnamespace
    LEFT JOIN pg_constraint k ON k.conindid = c.oid AND k.conrelid = r.oid AND k.contype IN ('p', 'u', 'x')
    LEFT JOIN pg_attribute a ON a.attrelid = r.oid AND a.attnum = i.indkey[0] LEFT JOIN pg_opclass o ON o.oid = i.indclass[0]
    LEFT JOIN pg_description s ON s.classoid = 'pg_class'::regclass AND s.objoid = c.oid AND s.objsubid = 0
    WHERE k.oid IS NULL
    UNION ALL
    SELECT 'function', format('%I.%I(%s)', a.nspname, p.proname, pg_get_function_identity_arguments(p.oid)), '', 'pg_proc'::regclass::oid, p.oid, 0::int, 0::int,
        ARRAY['owner=' || p.proowner::regrole,
            'comment=' || s.description,
            'grants=' || CASE WHEN p.proacl IS NOT NULL THEN nullif(coalesce((SELECT string_agg(i::text, ', ' ORDER BY i::text COLLATE "C") FROM unnest(p.proacl) i), 'none'), (SELECT string_agg(i::text, ', ' ORDER BY i::text COLLATE "C") FROM unnest(acldefault('f', p.proowner)) i)) END,
            'definition=' || CASE p.prokind WHEN 'a' THEN (SELECT format('CREATE AGGREGATE %s(%s) (%s)', p.oid::regproc, coalesce(nullif(pg_get_function_arguments(p.oid), ''), '*'), concat_ws(', ', 'SFUNC = ' || g.aggtransfn::regproc, 'STYPE = ' || format_type(g.aggtranstype, NULL),
                'SSPACE = ' || nullif(g.aggtransspace, 0), 'FINALFUNC = ' || nullif(g.aggfinalfn, 0)::regproc, CASE WHEN g.aggfinalextra THEN 'FINALFUNC_EXTRA' END,
                CASE WHEN g.aggfinalfn <> 0 AND g.aggfinalmodify <> CASE g.aggkind WHEN 'n' THEN 'r' ELSE 'w' END THEN 'FINALFUNC_MODIFY = ' || CASE g.aggfinalmodify WHEN 'r' THEN 'READ_ONLY' WHEN 's' THEN 'SHAREABLE' ELSE 'READ_WRITE' END END,
                'COMBINEFUNC = ' || nullif(g.aggcombinefn, 0)::regproc, 'SERIALFUNC = ' || nullif(g.aggserialfn, 0)::regproc, 'DESERIALFUNC = ' || nullif(g.aggdeserialfn, 0)::regproc,
                'INITCOND = ' || quote_literal(g.agginitval), 'MSFUNC = ' || nullif(g.aggmtransfn, 0)::regproc, 'MINVFUNC = ' || nullif(g.aggminvtransfn, 0)::regproc,
                'MSTYPE = ' || format_type(nullif(g.aggmtranstype, 0), NULL), 'MSSPACE = ' || nullif(g.aggmtransspace, 0), 'MFINALFUNC = ' || nullif(g.aggmfinalfn, 0)::regproc, CASE WHEN g.aggmfinalextra THEN 'MFINALFUNC_EXTRA' END,
                CASE WHEN g.aggmfinalfn <> 0 AND g.aggmfinalmodify <> CASE g.aggkind WHEN 'n' THEN 'r' ELSE 'w' END THEN 'MFINALFUNC_MODIFY = ' || CASE g.aggmfinalmodify WHEN 'r' THEN 'READ_ONLY' WHEN 's' THEN 'SHAREABLE' ELSE 'READ_WRITE' END END,
                'MINITCOND = ' || quote_literal(g.aggminitval), (SELECT format('SORTOP = OPERATOR(%I.%s)', z.nspname, y.oprname) FROM pg_operator y JOIN pg_namespace z ON z.oid = y.oprnamespace WHERE y.oid = g.aggsortop),
                CASE p.proparallel WHEN 's' THEN 'PARALLEL = SAFE' WHEN 'r' THEN 'PARALLEL = RESTRICTED' END, CASE WHEN g.aggkind = 'h' THEN 'HYPOTHETICAL' END))
            FROM pg_aggregate g WHERE g.aggfnoid = p.oid) ELSE pg_get_functiondef(p.oid) END]
    FROM application a JOIN pg_proc p ON p.pronamespace = a.oid LEFT JOIN pg_description s ON s.classoid = 'pg_proc'::regclass AND s.objoid = p.oid
    WHERE NOT EXISTS (SELECT FROM member m WHERE m.classid = 'pg_proc'::regclass AND m.objid = p.oid)
      AND NOT EXISTS (SELECT FROM pg_depend d WHERE d.classid = 'pg_proc'::regclass AND d.objid = p.oid AND d.deptype = 'i')
    UNION ALL
    SELECT 'trigger', r.name || '.' || quote_ident(t.tgname), r.name, 'pg_trigger'::regclass::oid, t.oid, 0::int, 0::int,
        ARRAY['definition=' || pg_get_triggerdef(t.oid),
            CASE t.tgenabled WHEN 'D' THEN 'fires=never' WHEN 'R' THEN 'fires=on replicas' WHEN 'A' THEN 'fires=always' END,
            'comment=' || s.description]
    FROM relation r JOIN pg_trigger t ON t.tgrelid = r.oid AND NOT t.tgisinternal AND t.tgparentid = 0 LEFT JOIN pg_description s ON s.classoid = 'pg_trigger'::regclass AND s.objoid = t.oid
    UNION ALL
    SELECT 'rule', r.name || '.' || quote_ident(w.rulename), r.name, 'pg_rewrite'::regclass::oid, w.oid, 0::int, 0::int,
        ARRAY['definition=' || pg_get_ruledef(w.oid),
            CASE w.ev_enabled WHEN 'D' THEN 'fires=never' WHEN 'R' THEN 'fires=on replicas' WHEN 'A' THEN 'fires=always' END,
            'comment=' || s.description]
    FROM relation r JOIN pg_rewrite w ON w.ev_class = r.oid AND w.rulename <> '_RETURN' LEFT JOIN pg_description s ON s.classoid = 'pg_rewrite'::regclass AND s.objoid = w.oid
    UNION ALL
    SELECT 'policy', r.name || '.' || quote_ident(p.polname), r.name, 'pg_policy'::regclass::oid, p.oid, 0::int, 0::int,
        ARRAY[CASE p.polcmd WHEN 'r' THEN 'for=select' WHEN 'a' THEN 'for=insert' WHEN 'w' THEN 'for=update' WHEN 'd' THEN 'for=delete' ELSE 'for=all' END,
            CASE WHEN NOT p.polpermissive THEN 'restrictive=yes' END,
            'using=' || pg_get_expr(p.polqual, p.polrelid),
            'check=' || pg_get_expr(p.polwithcheck, p.polrelid),
            'comment=' || s.description,
            'to=' || (SELECT string_agg(CASE o WHEN 0 THEN 'public' ELSE o::regrole::text END, ', ' ORDER BY 1) FROM unnest(p.polroles) o)]
    FROM relation r JOIN pg_policy p ON p.polrelid = r.oid LEFT JOIN pg_description s ON s.classoid = 'pg_policy'::regclass AND s.objoid = p.oid
    UNION ALL
    SELECT 'type', format('%I.%I', a.nspname, t.typname), '', 'pg_type'::regclass::oid, t.oid, 0::int, 0::int,
        ARRAY['owner=' || t.typowner::regrole,
            'comment=' || coalesce(s.description, (SELECT z.description FROM pg_description z WHERE t.typtype = 'c' AND z.classoid = 'pg_class'::regclass AND z.objoid = t.typrelid AND z.objsubid = 0)),
            CASE t.typtype WHEN 'e' THEN 'is=enum' WHEN 'c' THEN 'is=composite' WHEN 'd' THEN 'is=domain' ELSE 'is=range' END,
            'grants=' || CASE WHEN t.typacl IS NOT NULL THEN nullif(coalesce((SELECT string_agg(i::text, ', ' ORDER BY i::text COLLATE "C") FROM unnest(t.typacl) i), 'none'), (SELECT string_agg(i::text, ', ' ORDER BY i::text COLLATE "C") FROM unnest(acldefault('T', t.typowner)) i)) END,
            'labels=' || CASE WHEN t.typtype = 'e' THEN (SELECT string_agg(quote_literal(l.enumlabel), ', ' ORDER BY l.enumsortorder) FROM pg_enum l WHERE l.enumtypid = t.oid) END,
            'attributes=' || CASE WHEN t.typtype = 'c' THEN (SELECT string_agg(format('%I %s', b.attname, format_type(b.atttypid, b.atttypmod)) || coalesce(' COLLATE ' || CASE WHEN b.attcollation <> y.typcollation THEN b.attcollation::regcollation END, ''), ', ' ORDER BY b.attnum) FROM pg_attribute b JOIN pg_type y ON y.oid = b.atttypid WHERE b.attrelid = t.typrelid AND b.attnum > 0 AND NOT b.attisdropped) END,
            'base=' || CASE WHEN t.typtype = 'd' THEN format_type(t.typbasetype, t.typtypmod) END,
            'default=' || CASE WHEN t.typtype = 'd' THEN coalesce(pg_get_expr(t.typdefaultbin, 0), t.typdefault) END,
            CASE WHEN t.typtype = 'd' AND t.typnotnull THEN 'null=no' END,
            'collation=' || CASE WHEN t.typtype = 'd' AND t.typcollation <> (SELECT b.typcollation FROM pg_type b WHERE b.oid = t.typbasetype) THEN t.typcollation::regcollation::text END,
            'range=' || CASE WHEN t.typtype = 'r' THEN (SELECT concat_ws(', ', 'SUBTYPE = ' || format_type(g.rngsubtype, NULL), (SELECT format('SUBTYPE_OPCLASS = %I.%I', z.nspname, y.opcname) FROM pg_opclass y JOIN pg_namespace z ON z.oid = y.opcnamespace WHERE y.oid = g.rngsubopc AND NOT y.opcdefault), 'COLLATION = ' || CASE WHEN g.rngcollation <> (SELECT b.typcollation FROM pg_type b WHERE b.oid = g.rngsubtype) THEN g.rngcollation::regcollation END,
                'CANONICAL = ' || nullif(g.rngcanonical, 0)::regproc, 'SUBTYPE_DIFF = ' || nullif(g.rngsubdiff, 0)::regproc, 'MULTIRANGE_TYPE_NAME = ' || format_type((to_jsonb(g) ->> 'rngmultitypid')::oid, NULL)) FROM pg_range g WHERE g.rngtypid = t.oid) END]
    FROM application a JOIN pg_type t ON t.typnamespace = a.oid AND t.typtype IN ('e', 'c', 'd', 'r') LEFT JOIN pg_description s ON s.classoid = 'pg_type'::regclass AND s.objoid = t.oid AND s.objsubid = 0
    WHERE (t.typtype <> 'c' OR EXISTS (SELECT FROM pg_class c WHERE c.oid = t.typrelid AND c.relkind = 'c'))
      AND NOT EXISTS (SELECT FROM member m WHERE m.classid = 'pg_type'::regclass AND m.objid = t.oid)
    UNION ALL
    SELECT 'constraint', format('%I.%I.%I', a.nspname, t.typname, k.conname), format('%I.%I', a.nspname, t.typname), 'pg_constraint'::regclass::oid, k.oid, 0::int, 0::int,
        ARRAY['definition=' || pg_get_constraintdef(k.oid),
            'domain=yes',
            'comment=' || s.description]
    FROM application a JOIN pg_type t ON t.typnamespace = a.oid JOIN pg_constraint k ON k.contypid = t.oid AND k.contype = 'c' LEFT JOIN pg_description s ON s.classoid = 'pg_constraint'::regclass AND s.objoid = k.oid
    WHERE NOT EXISTS (SELECT FROM member m WHERE m.classid = 'pg_type'::regclass AND m.objid = t.oid)
    UNION ALL
    SELECT 'statistics', format('%I.%I', a.nspname, x.stxname), x.stxrelid::regclass::text, 'pg_statistic_ext'::regclass::oid, x.oid, 0::int, 0::int,
        ARRAY['owner=' || x.stxowner::regrole,
            'definition=' || pg_get_statisticsobjdef(x.oid),
            'target=' || CASE WHEN x.stxstattarget >= 0 THEN x.stxstattarget END,
            'comment=' || s.description]
    FROM application a JOIN pg_statistic_ext x ON x.stxnamespace = a.oid LEFT JOIN pg_description s ON s.classoid = 'pg_statistic_ext'::regclass AND s.objoid = x.oid
    UNION ALL
    SELECT 'event trigger', quote_ident(e.evtname), '', 'pg_event_trigger'::regclass::oid, e.oid, 0::int, 0::int,
        ARRAY['owner=' || e.evtowner::regrole,
            'on=' || e.evtevent,
            'calls=' || e.evtfoid::regproc,
            'tags=' || (SELECT string_agg(quote_literal(g), ', ' ORDER BY g COLLATE "C") FROM unnest(e.evttags) g),
            CASE e.evtenabled WHEN 'D' THEN 'fires=never' WHEN 'R' THEN 'fires=on replicas' WHEN 'A' THEN 'fires=always' END,
            'comment=' || s.description]
    FROM pg_event_trigger e LEFT JOIN pg_description s ON s.classoid = 'pg_event_trigger'::regclass AND s.objoid = e.oid WHERE NOT EXISTS (SELECT FROM member m WHERE m.classid = 'pg_event_trigger'::regclass AND m.objid = e.oid)
    UNION ALL
    SELECT 'publication', quote_ident(p.pubname), '', 'pg_publication'::regclass::oid, p.oid, 0::int, 0::int,
        ARRAY['owner=' || p.pubowner::regrole,
            CASE WHEN p.puballtables THEN 'all tables=yes' END,
            CASE WHEN (to_jsonb(p) ->> 'pubviaroot')::bool THEN 'via root=yes' END,
            'publishes=' || concat_ws(', ', CASE WHEN p.pubinsert THEN 'insert' END, CASE WHEN p.pubupdate THEN 'update' END, CASE WHEN p.pubdelete THEN 'delete' END, CASE WHEN p.pubtruncate THEN 'truncate' END),
            'comment=' || s.description]
    FROM pg_publication p LEFT JOIN pg_description s ON s.classoid = 'pg_publication'::regclass AND s.objoid = p.oid
    UNION ALL
    SELECT 'published table', format('%I %s', p.pubname, t.prrelid::regclass), quote_ident(p.pubname), 'pg_publication_rel'::regclass::oid, t.oid, 0::int, 0::int,
        ARRAY['table=' || t.prrelid::regclass,
            'columns=' || (SELECT string_agg(quote_ident(a.attname), ', ' ORDER BY a.attnum) FROM pg_attribute a WHERE a.attrelid = t.prrelid AND a.attnum = ANY (t.prattrs)),
            'where=' || pg_get_expr(t.prqual, t.prrelid)]
    FROM pg_publication p JOIN pg_publication_rel t ON t.prpubid = p.oid
    UNION ALL
    SELECT 'default privileges', concat_ws(' ', d.defaclrole::regrole, CASE d.defaclobjtype WHEN 'r' THEN 'tables' WHEN 'S' THEN 'sequences' WHEN 'f' THEN 'functions' WHEN 'T' THEN 'types' ELSE 'schemas' END, 'in ' || quote_ident(a.nspname)), '', 'pg_default_acl'::regclass::oid, d.oid, 0::int, 0::int,
        ARRAY['role=' || d.defaclrole::regrole,
            CASE d.defaclobjtype WHEN 'r' THEN 'for=tables' WHEN 'S' THEN 'for=sequences' WHEN 'f' THEN 'for=functions' WHEN 'T' THEN 'for=types' ELSE 'for=schemas' END,
            'schema=' || quote_ident(a.nspname),
            'grants=' || (SELECT string_agg(i::text, ', ' ORDER BY i::text COLLATE "C") FROM unnest(d.defaclacl) i)]
    FROM pg_default_acl d LEFT JOIN application a ON a.oid = d.defaclnamespace WHERE d.defaclnamespace = 0 OR a.oid IS NOT NULL
    UNION ALL
    SELECT 'foreign-data wrapper', quote_ident(w.fdwname), '', 'pg_foreign_data_wrapper'::regclass::oid, w.oid, 0::int, 0::int,
        ARRAY['owner=' || w.fdwowner::regrole,
            'handler=' || nullif(w.fdwhandler, 0)::regproc,
            'validator=' || nullif(w.fdwvalidator, 0)::regproc,
            'foreign options=' || (SELECT string_agg(format('%I %L', o.option_name, o.option_value), ', ' ORDER BY o.option_name COLLATE "C") FROM pg_options_to_table(w.fdwoptions) o),
            'grants=' || CASE WHEN w.fdwacl IS NOT NULL THEN nullif(coalesce((SELECT string_agg(i::text, ', ' ORDER BY i::text COLLATE "C") FROM unnest(w.fdwacl) i), 'none'), (SELECT string_agg(i::text, ', ' ORDER BY i::text COLLATE "C") FROM unnest(acldefault('F', w.fdwowner)) i)) END,
            'comment=' || s.description]
    FROM pg_foreign_data_wrapper w LEFT JOIN pg_description s ON s.classoid = 'pg_foreign_data_wrapper'::regclass AND s.objoid = w.oid WHERE NOT EXISTS (SELECT FROM member m WHERE m.classid = 'pg_foreign_data_wrapper'::regclass AND m.objid = w.oid)
    UNION ALL
    SELECT 'server', quote_ident(f.srvname), '', 'pg_foreign_server'::regclass::oid, f.oid, 0::int, 0::int,
        ARRAY['owner=' || f.srvowner::regrole,
            'wrapper=' || quote_ident(w.fdwname),
            'type=' || f.srvtype,
            'version=' || f.srvversion,
            'foreign options=' || (SELECT string_agg(format('%I %L', o.option_name, o.option_value), ', ' ORDER BY o.option_name COLLATE "C") FROM pg_options_to_table(f.srvoptions) o),
            'grants=' || CASE WHEN f.srvacl IS NOT NULL THEN nullif(coalesce((SELECT string_agg(i::text, ', ' ORDER BY i::text COLLATE "C") FROM unnest(f.srvacl) i), 'none'), (SELECT string_agg(i::text, ', ' ORDER BY i::text COLLATE "C") FROM unnest(acldefault('S', f.srvowner)) i)) END,
            'comment=' || s.description]
    FROM pg_foreign_server f JOIN pg_foreign_data_wrapper w ON w.oid = f.srvfdw LEFT JOIN pg_description s ON s.classoid = 'pg_foreign_server'::regclass AND s.objoid = f.oid WHERE NOT EXISTS (SELECT FROM member m WHERE m.classid = 'pg_foreign_server'::regclass AND m.objid = f.oid)
    UNION ALL
    SELECT 'collation', format('%I.%I', a.nspname, c.collname), '', 'pg_collation'::regclass::oid, c.oid, 0::int, 0::int,
        ARRAY['owner=' || c.collowner::regrole,
            'options=' || concat_ws(', ', CASE c.collprovider WHEN 'i' THEN 'PROVIDER = icu' WHEN 'c' THEN 'PROVIDER = libc' END,
                'LOCALE = ' || quote_literal(to_jsonb(c) ->> 'colliculocale'), 'LC_COLLATE = ' || quote_literal(c.collcollate), 'LC_CTYPE = ' || quote_literal(c.collctype), CASE WHEN NOT c.collisdeterministic THEN 'DETERMINISTIC = false' END),
            'comment=' || s.description]
    FROM application a JOIN pg_collation c ON c.collnamespace = a.oid LEFT JOIN pg_description s ON s.classoid = 'pg_collation'::regclass AND s.objoid = c.oid WHERE NOT EXISTS (SELECT FROM member m WHERE m.classid = 'pg_collation'::regclass AND m.objid = c.oid)
    UNION ALL -- from version 15 on
    SELECT 'published schema', format('%I %I', p.pubname, n.nspname), quote_ident(p.pubname), 'pg_publication_namespace'::regclass::oid, t.oid, 0, 0, ARRAY['schema=' || quote_ident(n.nspname)]
    FROM pg_publication p JOIN pg_publication_namespace t ON t.pnpubid = p.oid JOIN pg_namespace n ON n.oid = t.pnnspid
)
SELECT kind, name, of, class, id, sub, place, props::text[] FROM object
