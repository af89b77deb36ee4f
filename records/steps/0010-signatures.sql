-- Signatures of releases: of the text of SHA256SUMS, whose digest is the release's.
CREATE TABLE records.signature (
    lane     text        NOT NULL,
    digest   text        NOT NULL,
    key      text        NOT NULL,
    body     jsonb       NOT NULL,
    added_by text        NOT NULL,
    added_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (lane, digest, key),
    FOREIGN KEY (lane, digest) REFERENCES records.release (lane, digest)
);
COMMENT ON COLUMN records.signature.key IS 'the public SSH key that signed, as in a public key file';
