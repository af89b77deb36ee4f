package release

import (
	"bytes"
	"crypto/rsa"
	"encoding/pem"
	"errors"
	"fmt"
	"strings"

	"github.com/hiddeco/sshsig"
	"golang.org/x/crypto/ssh"
)

// SignatureName is the file of a bundle that holds its signatures: SSH signatures
// of SHA256SUMS, as ssh-keygen -Y sign writes them, one after the other. Source:
// PROTOCOL.sshsig of OpenSSH.
const SignatureName = "SHA256SUMS.sig"

// Namespace is what a signature is for, so that one for something else is none.
const Namespace = "vorrang-release"

const (
	mostSignatures   = 20
	longestSignature = 16 << 10 // bytes, armoured
)

// Key is somebody's public SSH key.
type Key struct {
	Line        string `json:"key" description:"As in a public key file, without its comment."`
	Fingerprint string `json:"fingerprint" description:"SHA256:…, as ssh-keygen -l prints it."`
	Holder      string `json:"holder,omitempty" description:"The comment beside it: whose it is, where an environment names it."`
}

// ParseKey reads a line of a public key file.
func ParseKey(line string) (Key, error) {
	public, comment, options, rest, err := ssh.ParseAuthorizedKey([]byte(line))
	switch {
	case err != nil || len(bytes.TrimSpace(rest)) > 0:
		return Key{}, errors.New(
			"it is not a public SSH key; one is a line such as  ssh-ed25519 AAAA… p.holm  in a file that ends with .pub",
		)
	case len(options) > 0:
		return Key{}, errors.New("a key has no options here")
	}
	key := keyOf(public)
	key.Holder = comment
	return key, weak(public)
}

// weak refuses kinds of keys whose signatures can be forged.
func weak(public ssh.PublicKey) error {
	const shortest = 2048 // bits
	if plain, is := public.(ssh.CryptoPublicKey); is {
		if key, is := plain.CryptoPublicKey().(*rsa.PublicKey); is && key.N.BitLen() < shortest {
			return fmt.Errorf("an RSA key needs %d bits or more, and this one has %d", shortest, key.N.BitLen())
		}
	}
	switch public.Type() {
	case ssh.KeyAlgoED25519,
		ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521, ssh.KeyAlgoRSA, ssh.KeyAlgoSKED25519,
		ssh.KeyAlgoSKECDSA256:
		return nil
	}
	return fmt.Errorf("keys of the kind %s are not taken; use ssh-ed25519", public.Type())
}

func keyOf(public ssh.PublicKey) Key {
	return Key{
		Line:        strings.TrimSpace(string(ssh.MarshalAuthorizedKey(public))),
		Fingerprint: ssh.FingerprintSHA256(public),
	}
}

// Signature is somebody's signature of a SHA256SUMS.
type Signature struct {
	Key
	Text string `json:"signature" description:"Armoured, as ssh-keygen writes it."`
}

// Sign signs a SHA256SUMS.
func Sign(sums []byte, signer ssh.Signer) (string, error) {
	if err := weak(signer.PublicKey()); err != nil {
		return "", err
	}
	signature, err := sshsig.Sign(bytes.NewReader(sums), signer, sshsig.HashSHA512, Namespace)
	if err != nil {
		return "", fmt.Errorf("sign: %w", err)
	}
	return string(sshsig.Armor(signature)), nil
}

// Verified reads signatures, one after the other, and makes sure that each is one
// of a SHA256SUMS. Who the keys belong to is another question.
func Verified(sums, armoured []byte) ([]Signature, error) {
	var list []Signature
	for rest := bytes.TrimSpace(armoured); len(rest) > 0; rest = bytes.TrimSpace(rest) {
		block, more := pem.Decode(rest)
		if block == nil || !bytes.HasPrefix(rest, []byte("-----BEGIN "+sshsig.PEMType)) ||
			len(rest)-len(more) > longestSignature ||
			len(list) == mostSignatures {
			return nil, fmt.Errorf(
				"it holds something else than up to %d SSH signatures, as ssh-keygen -Y sign writes them",
				mostSignatures,
			)
		}
		text := rest[:len(rest)-len(more)]
		signature, err := sshsig.Unarmor(text)
		if err != nil {
			return nil, fmt.Errorf("it holds no SSH signature: %w", err)
		}
		if err := weak(signature.PublicKey); err != nil {
			return nil, err
		}
		if signature.Signature.Format == ssh.KeyAlgoRSA {
			return nil, errors.New("a signature by RSA with SHA-1 is not taken; sign it again with a newer program")
		}
		if err := sshsig.Verify(bytes.NewReader(sums), signature, signature.PublicKey, signature.HashAlgorithm,
			Namespace); err != nil {
			return nil, fmt.Errorf(
				"the signature of the key %s is not one of this SHA256SUMS, for the namespace %s",
				ssh.FingerprintSHA256(signature.PublicKey), Namespace,
			)
		}
		list = append(list, Signature{Key: keyOf(signature.PublicKey), Text: strings.TrimSpace(string(text)) + "\n"})
		rest = more
	}
	if len(list) == 0 {
		return nil, errors.New("it holds no signature")
	}
	return list, nil
}
