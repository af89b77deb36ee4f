package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"vorrang/core/release"
	"vorrang/core/step"
)

func signCommand() command {
	return command{
		verb: "sign", takes: "NAME", does: "signs a release with an SSH key, for gates that ask for a known signer",
		explain: "What is signed is the release's SHA256SUMS, after every file in it was compared with the step folder: " +
			"you sign what\n" +
			"you have, not what the service says. -key names a private key; or, with .pub, a public one whose private key an\n" +
			"SSH agent holds. The signature goes along in bundles as SHA256SUMS.sig, and ssh-keygen -Y verify checks it:\n" +
			"  ssh-keygen -Y verify -n " + release.Namespace + " -f ALLOWED_SIGNERS -I NAME -s SHA256SUMS.sig < SHA256SUMS",
		example: "vorrang sign 2026.11 -key ~/.ssh/id_ed25519",
		setUp: func(e *env) func(context.Context, []string) error {
			file := e.flags.String("key", "", "the `file` with your SSH key")
			dir := e.flags.String("dir", "steps", "the step `folder`")
			return e.onLane(func(ctx context.Context, at spot, args []string) error {
				if len(args) != 1 || *file == "" {
					return usage("name the release and your key: vorrang sign 2026.11 -key ~/.ssh/id_ed25519")
				}
				content, err := at.Release(ctx, at.lane, args[0], "", "")
				if err != nil {
					return err
				}
				if digest := release.Digest(content.Sums); digest != content.Release.Digest {
					return fmt.Errorf(
						"the service's SHA256SUMS has the digest %s, and the release %s; it is not signed",
						digest.Short(), content.Release.Digest.Short(),
					)
				}
				if err := asInFolder(*dir, content.Sums); err != nil {
					return err
				}
				signer, done, err := signerOf(e, *file)
				if err != nil {
					return err
				}
				defer done()
				signature, err := release.Sign([]byte(content.Sums), signer)
				if err != nil {
					return err
				}
				signed, err := at.Sign(ctx, at.lane, args[0], signature)
				if err != nil {
					return err
				}
				return e.print(signed, func() {
					fmt.Fprintf(
						e.out,
						"release %s of %s is signed with the key %s\n",
						e.paint.strong(signed.Release), at.lane, ssh.FingerprintSHA256(signer.PublicKey()),
					)
					fmt.Fprintf(e.out, "digest %s, as in %s\n", signed.Digest, *dir)
				})
			})
		},
	}
}

// asInFolder compares each file that a SHA256SUMS lists with the step folder's.
func asInFolder(dir, sums string) error {
	folder := inside(dir)
	var other []string
	for line := range strings.Lines(sums) {
		digest, name, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "  ")
		name = strings.TrimPrefix(name, release.Folder+"/")
		text, err := fs.ReadFile(folder, name)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			other = append(other, name+" is not there")
		case err != nil:
			return err
		case string(step.Sum(text)) != digest:
			other = append(other, name+" has another text")
		}
	}
	if len(other) > 0 {
		return fmt.Errorf(
			"the release is not what %s holds, and is not signed: %s; check out what it was cut from, or name that "+
				"folder with -dir",
			dir,
			strings.Join(other, ", "),
		)
	}
	return nil
}

// signerOf reads a private key, or finds the one of a public key with an agent.
// done ends what it took.
func signerOf(e *env, file string) (signer ssh.Signer, done func(), err error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, nil, err
	}
	if filepath.Ext(file) == ".pub" {
		return fromAgent(file, string(text))
	}
	signer, err = ssh.ParsePrivateKey(text)
	var locked *ssh.PassphraseMissingError
	if errors.As(err, &locked) {
		passphrase, err := readSecret(e, "the passphrase of "+file)
		if err != nil {
			return nil, nil, err
		}
		if signer, err = ssh.ParsePrivateKeyWithPassphrase(text, []byte(passphrase)); err != nil {
			return nil, nil, fmt.Errorf("%s: that is not its passphrase", file)
		}
		return signer, func() {}, nil
	}
	if err != nil {
		return nil, nil, fmt.Errorf("%s holds no SSH private key; ssh-keygen -t ed25519 makes one", file)
	}
	return signer, func() {}, nil
}

func fromAgent(file, text string) (ssh.Signer, func(), error) {
	key, err := release.ParseKey(text)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", file, err)
	}
	socket := os.Getenv("SSH_AUTH_SOCK")
	if socket == "" {
		return nil, nil, fmt.Errorf(
			"%s is a public key, and no SSH agent runs (SSH_AUTH_SOCK is empty); name the private key",
			file,
		)
	}
	connection, err := net.Dial("unix", socket)
	if err != nil {
		return nil, nil, fmt.Errorf("the SSH agent does not answer: %w", err)
	}
	signers, err := agent.NewClient(connection).Signers()
	for _, signer := range signers {
		if ssh.FingerprintSHA256(signer.PublicKey()) == key.Fingerprint {
			return signer, func() { connection.Close() }, nil
		}
	}
	connection.Close()
	if err == nil {
		err = fmt.Errorf("the SSH agent does not hold the key %s; ssh-add adds it", key.Fingerprint)
	}
	return nil, nil, err
}
