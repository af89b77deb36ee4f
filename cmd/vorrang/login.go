package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/term"

	"vorrang/client"
)

// keptTokens is the file where login keeps a token for every server.
func keptTokens() (string, error) {
	folder, err := os.UserConfigDir()
	return filepath.Join(folder, "vorrang", "tokens.json"), err
}

// readTokens reads that file. One that others may read is refused: whatever it
// holds is no secret any more.
func readTokens() (map[string]string, error) {
	tokens := map[string]string{}
	name, err := keptTokens()
	if err != nil {
		return tokens, nil // no home, no tokens
	}
	info, err := os.Stat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return tokens, nil
	}
	if err != nil {
		return nil, err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf(
			"%s can be read by others (mode %o); chmod 600 it, log out and in again",
			name, info.Mode().Perm(),
		)
	}
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(text, &tokens); err != nil {
		return nil, fmt.Errorf("%s cannot be read (%w); remove it and log in again", name, err)
	}
	return tokens, nil
}

// keepToken writes a server's token, or removes it if it is empty. The file is
// replaced as a whole.
func keepToken(server, token string) (string, error) {
	tokens, err := readTokens()
	if err != nil {
		return "", err
	}
	tokens[server] = token
	if token == "" {
		delete(tokens, server)
	}
	name, err := keptTokens()
	if err != nil {
		return "", err
	}
	text, err := json.MarshalIndent(tokens, "", "  ")
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return "", err
	}
	part, err := os.CreateTemp(filepath.Dir(name), "tokens-") // with mode 600
	if err != nil {
		return "", err
	}
	defer os.Remove(part.Name())
	if _, err := part.Write(append(text, '\n')); err != nil {
		return "", err
	}
	if err := part.Close(); err != nil {
		return "", err
	}
	return name, os.Rename(part.Name(), name)
}

// readSecret asks for a secret without showing it; from a pipe it reads a line.
func readSecret(e *env, prompt string) (string, error) {
	if term.IsTerminal(int(os.Stdin.Fd())) {
		fmt.Fprint(e.errs, prompt+": ")
		secret, err := term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(e.errs)
		return string(secret), err
	}
	if e.lines == nil {
		e.lines = bufio.NewReader(os.Stdin)
	}
	line, err := e.lines.ReadString('\n')
	if line == "" && err != nil {
		return "", usage("the standard input ended where a line was to come with: %s", prompt)
	}
	return strings.TrimRight(line, "\r\n"), nil
}

func loginCommand() command {
	return command{
		verb: "login", takes: "[NAME]", does: "signs in, and keeps a token in a file that only you can read",
		explain: "The password is asked for, or read from the standard input. People who sign in elsewhere make a " +
			"token on the\n" +
			"console, and gives it to -token the same way. The token is good for 30 days. VORRANG_TOKEN goes before it.",
		example: "vorrang login m.kai",
		setUp: func(e *env) func(context.Context, []string) error {
			given := e.flags.Bool("token", false, "read a token instead of a password")
			return func(ctx context.Context, args []string) error {
				if *given == (len(args) == 1) || len(args) > 1 {
					return usage("vorrang login NAME asks for the password; vorrang login -token for a token")
				}
				c := e.bare()
				var token string
				var err error
				if *given {
					if token, err = readSecret(e, "token"); err != nil {
						return err
					}
				} else {
					password, err := readSecret(e, "password")
					if err != nil {
						return err
					}
					host, _ := os.Hostname() // without it the machine has no name
					session, err := c.Login(ctx, args[0], password, "vorrang on "+host)
					if err != nil {
						return err
					}
					token = session.Token
				}
				c.Token = token
				session, err := c.Session(ctx)
				if err != nil {
					return err
				}
				file, err := keepToken(c.Server, token)
				if err != nil {
					return err
				}
				session.Token = ""
				return e.print(session, func() {
					fmt.Fprintf(e.out, "signed in at %s as %s; the token is kept in %s\n", c.Server, session.Name, file)
					if os.Getenv("VORRANG_TOKEN") != "" {
						fmt.Fprintln(e.out, "VORRANG_TOKEN is set and counts before it: commands run with that token until you unset it")
					}
				})
			}
		},
	}
}

func logoutCommand() command {
	return command{
		verb: "logout", does: "revokes the token that login keeps, and forgets it",
		example: "vorrang logout",
		setUp: func(e *env) func(context.Context, []string) error {
			return func(ctx context.Context, args []string) error {
				if err := e.noArguments(args); err != nil {
					return err
				}
				c := e.bare()
				tokens, err := readTokens()
				if err != nil {
					return err
				}
				if c.Token = tokens[c.Server]; c.Token == "" {
					return fmt.Errorf("nobody is logged in at %s", c.Server)
				}
				gone := c.Logout(ctx)
				if _, err := keepToken(c.Server, ""); err != nil {
					return err
				}
				if gone != nil {
					return fmt.Errorf("the token is forgotten here, but could not be revoked: %w", gone)
				}
				fmt.Fprintf(e.out, "logged out at %s\n", c.Server)
				return nil
			}
		},
	}
}

func whoamiCommand() command {
	return command{
		verb: "whoami", does: "says who you are to the service, and what you may",
		example: "vorrang whoami",
		setUp: func(e *env) func(context.Context, []string) error {
			return e.alone(func(ctx context.Context, c *client.Client) error {
				session, err := c.Session(ctx)
				if err != nil {
					return err
				}
				return e.print(session, func() {
					fmt.Fprintf(e.out, "%s, by %s\n", e.paint.strong(session.Name), session.Via)
					for _, g := range session.Grants {
						fmt.Fprintln(e.out, "  "+g.String())
					}
					if len(session.Grants) == 0 {
						fmt.Fprintln(
							e.out,
							"  nothing is granted yet; an administrator can: vorrang person "+session.Name+" -grant ROLE@LANE",
						)
					}
				})
			})
		},
	}
}

func passwordCommand() command {
	return command{
		verb: "password", does: "changes your password",
		explain: "Both are asked for, or read from two lines of the standard input. Your sessions and tokens end.",
		example: "vorrang password",
		setUp: func(e *env) func(context.Context, []string) error {
			return e.alone(func(ctx context.Context, c *client.Client) error {
				old, err := readSecret(e, "old password")
				if err != nil {
					return err
				}
				next, err := readSecret(e, "new password")
				if err != nil {
					return err
				}
				if err := c.ChangePassword(ctx, old, next); err != nil {
					return err
				}
				fmt.Fprintln(e.out, "the password is changed; sign in again: vorrang login NAME")
				return nil
			})
		},
	}
}
