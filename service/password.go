package service

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"net/http"
	"strings"

	"golang.org/x/crypto/argon2"
)

// Passwords are kept as argon2id hashes, with the cost that OWASP's Password
// Storage Cheat Sheet names first: 19 MiB, two passes, one thread.
const (
	argonMemory = 19 << 10 // KiB
	argonPasses = 2
	argonBytes  = 32

	leastPassword = 12  // characters
	mostPassword  = 256 // bytes
)

// hashing bounds how many passwords are hashed at once, and with it the memory;
// hashQueue how many wait for that.
var (
	hashing   = make(chan struct{}, 2)
	hashQueue = make(chan struct{}, 32)
)

func argon(ctx context.Context, password string, salt []byte, passes, memory uint32) ([]byte, error) {
	select {
	case hashQueue <- struct{}{}:
		defer func() { <-hashQueue }()
	default:
		return nil, refuse(
			http.StatusTooManyRequests, "too-many", "Too many sign in at once",
			by("try again in some seconds"),
			"too many people are signing in at this moment",
		)
	}
	select {
	case hashing <- struct{}{}:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	defer func() { <-hashing }()
	return argon2.IDKey([]byte(password), salt, passes, memory, 1, argonBytes), nil
}

// hashPassword returns the hash in the usual form: $argon2id$v=19$m=…$salt$hash.
func hashPassword(ctx context.Context, password string) (string, error) {
	switch {
	case len([]rune(password)) < leastPassword:
		return "", badRequest(nil, "password: it needs at least %d characters", leastPassword)
	case len(password) > mostPassword:
		return "", badRequest(nil, "password: it may have at most %d bytes", mostPassword)
	}
	salt := make([]byte, 16)
	_, _ = rand.Read(salt) // never fails
	hash, err := argon(ctx, password, salt, argonPasses, argonMemory)
	encode := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf(
		"$argon2id$v=%d$m=%d,t=%d,p=1$%s$%s",
		argon2.Version, argonMemory, argonPasses, encode(salt), encode(hash),
	), err
}

// unknownHash is the hash that a sign-in under an unknown name is held against, so
// that it takes as long as any other.
const unknownHash = "$argon2id$v=19$m=19456,t=2,p=1$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"

// isPassword reports whether a password is the one that was hashed.
func isPassword(ctx context.Context, password, kept string) (bool, error) {
	if kept == "" || len(password) > mostPassword {
		kept, password = unknownHash, ""
	}
	parts := strings.Split(kept, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false, fmt.Errorf("a kept password is of a form that is not known")
	}
	var memory, passes uint32
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=1", &memory, &passes); err != nil {
		return false, fmt.Errorf("a kept password's cost cannot be read: %w", err)
	}
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	if err != nil {
		return false, fmt.Errorf("a kept password's salt cannot be read: %w", err)
	}
	hash, err := argon(ctx, password, salt, passes, memory)
	return subtle.ConstantTimeCompare([]byte(base64.RawStdEncoding.EncodeToString(hash)), []byte(parts[5])) == 1 &&
		kept != unknownHash, err
}
