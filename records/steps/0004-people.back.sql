DROP TABLE records.audit;
DROP FUNCTION records.audit_is_kept();
DROP TABLE records.token;
DROP TABLE records.session;
DROP TABLE records.person;
