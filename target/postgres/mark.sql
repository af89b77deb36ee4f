-- What a look at the catalogs would find changed: of each, how many rows there are, and who wrote them where (xmin and ctid change with
-- every row that is written). What the server updates in place, such as sizes, is not written so, and is no part of a schema. Objects of the system itself have
-- ids below 16384. With the database and the server's start: another database, or a restored one, is another state.
WITH written (what, mark) AS (
    SELECT 'class', xmin::text || ctid FROM pg_class WHERE oid >= 16384 AND relpersistence <> 't'
    UNION ALL SELECT 'attribute', xmin::text || ctid FROM pg_attribute WHERE attrelid >= 16384
    UNION ALL SELECT 'default', xmin::text || ctid FROM pg_attrdef
    UNION ALL SELECT 'constraint', xmin::text || ctid FROM pg_constraint WHERE oid >= 16384
    UNION ALL SELECT 'index', xmin::text || ctid FROM pg_index WHERE indexrelid >= 16384
    UNION ALL SELECT 'type', xmin::text || ctid FROM pg_type WHERE oid >= 16384
    UNION ALL SELECT 'enum', xmin::text || ctid FROM pg_enum
    UNION ALL SELECT 'range', xmin::text || ctid FROM pg_range WHERE rngtypid >= 16384
    UNION ALL SELECT 'procedure', xmin::text || ctid FROM pg_proc WHERE oid >= 16384
    UNION ALL SELECT 'aggregate', xmin::text || ctid FROM pg_aggregate WHERE aggfnoid::oid >= 16384
    UNION ALL SELECT 'trigger', xmin::text || ctid FROM pg_trigger WHERE oid >= 16384
    UNION ALL SELECT 'rule', xmin::text || ctid FROM pg_rewrite WHERE oid >= 16384
    UNION ALL SELECT 'policy', xmin::text || ctid FROM pg_policy
    UNION ALL SELECT 'sequence', xmin::text || ctid FROM pg_sequence
    UNION ALL SELECT 'inheritance', xmin::text || ctid FROM pg_inherits
    UNION ALL SELECT 'partitioned', xmin::text || ctid FROM pg_partitioned_table
    UNION ALL SELECT 'statistics', xmin::text || ctid FROM pg_statistic_ext
    UNION ALL SELECT 'namespace', xmin::text || ctid FROM pg_namespace WHERE nspname !~ '^pg_'
    UNION ALL SELECT 'description', xmin::text || ctid FROM pg_description WHERE objoid >= 16384 OR classoid = 'pg_namespace'::regclass
    UNION ALL SELECT 'dependency', xmin::text || ctid FROM pg_depend WHERE objid >= 16384
    UNION ALL SELECT 'extension', xmin::text || ctid FROM pg_extension
    UNION ALL SELECT 'default grants', xmin::text || ctid FROM pg_default_acl
    UNION ALL SELECT 'foreign table', xmin::text || ctid FROM pg_foreign_table
    UNION ALL SELECT 'foreign server', xmin::text || ctid FROM pg_foreign_server
    UNION ALL SELECT 'wrapper', xmin::text || ctid FROM pg_foreign_data_wrapper
    UNION ALL SELECT 'publication', xmin::text || ctid FROM pg_publication
    UNION ALL SELECT 'published', xmin::text || ctid FROM pg_publication_rel
    UNION ALL SELECT 'event trigger', xmin::text || ctid FROM pg_event_trigger
    UNION ALL SELECT 'collation', xmin::text || ctid FROM pg_collation WHERE oid >= 16384
    UNION ALL SELECT 'operator', xmin::text || ctid FROM pg_operator WHERE oid >= 16384
    UNION ALL SELECT 'operator class', xmin::text || ctid FROM pg_opclass WHERE oid >= 16384
    UNION ALL SELECT 'operator family', xmin::text || ctid FROM pg_opfamily WHERE oid >= 16384
    UNION ALL SELECT 'cast', xmin::text || ctid FROM pg_cast WHERE oid >= 16384
    UNION ALL SELECT 'conversion', xmin::text || ctid FROM pg_conversion WHERE oid >= 16384
    UNION ALL SELECT 'language', xmin::text || ctid FROM pg_language WHERE oid >= 16384
    UNION ALL SELECT 'transform', xmin::text || ctid FROM pg_transform
    UNION ALL SELECT 'access method', xmin::text || ctid FROM pg_am WHERE oid >= 16384
    UNION ALL SELECT 'search', xmin::text || ctid FROM pg_ts_config WHERE oid >= 16384
    UNION ALL SELECT 'dictionary', xmin::text || ctid FROM pg_ts_dict WHERE oid >= 16384
    UNION ALL SELECT 'parser', xmin::text || ctid FROM pg_ts_parser WHERE oid >= 16384
    UNION ALL SELECT 'template', xmin::text || ctid FROM pg_ts_template WHERE oid >= 16384
    UNION ALL SELECT 'label', xmin::text || ctid FROM pg_seclabel
    UNION ALL SELECT 'large object', oid::text FROM pg_largeobject_metadata
    UNION ALL SELECT 'tablespace', oid::text || spcname FROM pg_tablespace
    UNION ALL SELECT 'role', oid::text || rolname FROM pg_roles
    UNION ALL SELECT 'user mapping', umid::text || srvname || usename FROM pg_user_mappings
    UNION ALL SELECT 'subscription', oid::text || subname FROM pg_subscription
), summed AS (
    SELECT what, count(*) AS n, sum(hashtextextended(mark, 0)::numeric) AS marks FROM written GROUP BY what
)
SELECT md5(concat_ws(' ', (SELECT oid FROM pg_database WHERE datname = current_database()), pg_postmaster_start_time(), current_user,
    (SELECT string_agg(concat_ws(' ', what, n, marks), ', ' ORDER BY what) FROM summed)))
