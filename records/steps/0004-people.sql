-- Who may do what, and who did what.
CREATE TABLE records.person (
    name        text        NOT NULL PRIMARY KEY,
    password    text,
    subject     text        UNIQUE,
    grants      text[]      NOT NULL,
    from_groups text[]      NOT NULL DEFAULT '{}',
    disabled_at timestamptz,
    created_at  timestamptz NOT NULL DEFAULT now(),
    created_by  text        NOT NULL,
    seen_at     timestamptz
);
COMMENT ON COLUMN records.person.password IS 'argon2id; absent for those who sign in elsewhere';
COMMENT ON COLUMN records.person.subject IS 'issuer and subject of those who sign in by OpenID Connect';
COMMENT ON COLUMN records.person.from_groups IS 'grants that their groups gave them at the last sign-in';

-- A session belongs to a person, or to whoever has the administrator's token.
CREATE TABLE records.session (
    hash       text        NOT NULL PRIMARY KEY,
    person     text        REFERENCES records.person ON DELETE CASCADE,
    name       text        NOT NULL,
    key        text        NOT NULL DEFAULT '',
    made_at    timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz NOT NULL
);
COMMENT ON COLUMN records.session.hash IS 'SHA-256 of the cookie';
COMMENT ON COLUMN records.session.key IS 'made of the administrator''s token, so that its sessions end with it';

-- A token is a person's own, or a machine's with grants of its own.
CREATE TABLE records.token (
    id         bigint      NOT NULL GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name       text        NOT NULL,
    hash       text        NOT NULL UNIQUE,
    person     text        REFERENCES records.person ON DELETE CASCADE,
    grants     text[]      NOT NULL,
    made_at    timestamptz NOT NULL DEFAULT now(),
    made_by    text        NOT NULL,
    expires_at timestamptz NOT NULL,
    used_at    timestamptz,
    revoked_at timestamptz
);
COMMENT ON COLUMN records.token.hash IS 'SHA-256 of the token';

CREATE TABLE records.audit (
    id          bigint      NOT NULL GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at          timestamptz NOT NULL DEFAULT now(),
    actor       text        NOT NULL,
    via         text        NOT NULL,
    address     text        NOT NULL,
    operation   text        NOT NULL,
    lane        text        NOT NULL DEFAULT '',
    environment text        NOT NULL DEFAULT '',
    detail      jsonb       NOT NULL DEFAULT '{}',
    status      int,
    result      text
);
CREATE INDEX audit_actor ON records.audit (actor, id DESC);
CREATE INDEX audit_lane ON records.audit (lane, environment, id DESC);

CREATE FUNCTION records.audit_is_kept() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'UPDATE' AND OLD.result IS NULL AND NEW.id = OLD.id AND NEW.at = OLD.at AND NEW.actor = OLD.actor AND NEW.operation = OLD.operation THEN
        RETURN NEW; -- the answer, once
    END IF;
    RAISE EXCEPTION 'the audit is only ever added to';
END $$;
CREATE TRIGGER audit_is_kept BEFORE UPDATE OR DELETE ON records.audit FOR EACH ROW EXECUTE FUNCTION records.audit_is_kept();
CREATE TRIGGER audit_is_not_emptied BEFORE TRUNCATE ON records.audit EXECUTE FUNCTION records.audit_is_kept();
