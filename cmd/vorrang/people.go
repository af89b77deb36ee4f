package main

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"vorrang/client"
	"vorrang/core/access"
	"vorrang/service/api"
)

func peopleCommand() command {
	return command{
		verb: "people", does: "lists who may sign in, and what they may",
		example: "vorrang people\nvorrang people -search approver@harbour",
		setUp: func(e *env) func(context.Context, []string) error {
			query := e.listByName("name or grants")
			return e.alone(func(ctx context.Context, c *client.Client) error {
				list, err := c.People(ctx, *query)
				if err != nil {
					return err
				}
				return e.print(list, func() {
					if len(list.People) == 0 && asksForSome(*query) {
						fmt.Fprintln(e.out, "nobody matches")
						return
					}
					if len(list.People) == 0 {
						fmt.Fprintln(e.out, "nobody has an account yet; vorrang person NAME -password -grant ROLE makes one")
						return
					}
					t := &table{heads: []string{"NAME", "MAY", "SIGNED IN", ""}}
					for _, p := range list.People {
						seen, state := "never", ""
						if p.SeenAt != nil {
							seen = ago(*p.SeenAt)
						}
						if p.Disabled != nil {
							state = "disabled"
						}
						t.add(plain(p.Name), plain(grantWords(p.Granted())), plain(seen), cell{state, e.paint.warn})
					}
					t.print(e.out, e.paint)
					e.further(list.Next)
				})
			})
		},
	}
}

func grantWords(grants access.Grants) string {
	if len(grants) == 0 {
		return "nothing"
	}
	return strings.Join(grants.Texts(), ", ")
}

// list divides at commas and spaces.
func list(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' })
}

func personCommand() command {
	return command{
		verb: "person", takes: "NAME", does: "lets somebody sign in, or changes what they may",
		explain: "A role is reader, author, releaser, approver, keeper, reporter or administrator, for all lanes " +
			"(releaser), a lane\n" +
			"(releaser@harbour) or an environment (releaser@harbour/production). -password reads it from the standard input.\n" +
			"Unless you use the administrator's token, your own password is asked for too: the next line of the " +
			"standard input.\n" +
			"A new password, and -disable, end the person's sessions and tokens.",
		example: "vorrang person m.kai -password -grant author@harbour,releaser@harbour/staging\n" +
			"vorrang person m.kai -take author@harbour",
		setUp: func(e *env) func(context.Context, []string) error {
			grant := e.flags.String("grant", "", "`roles` to be added, divided by commas")
			take := e.flags.String("take", "", "`roles` to be taken back")
			password := e.flags.Bool("password", false, "set the password, which is read from the standard input")
			disable := e.flags.Bool("disable", false, "nobody may sign in under this name")
			enable := e.flags.Bool("enable", false, "they may again")
			return func(ctx context.Context, args []string) error {
				if *disable && *enable {
					return usage("say one of -disable and -enable")
				}
				if len(args) != 1 {
					return usage("name one person: vorrang person m.kai -password -grant reader")
				}
				change := client.PersonChange{Grant: list(*grant), Take: list(*take)}
				if *password {
					secret, err := readSecret(e, "password")
					if err != nil {
						return err
					}
					change.Password = &secret
				}
				if *disable || *enable {
					change.Disabled = disable
				}
				person, err := e.client().PutPerson(ctx, args[0], change)
				if err != nil {
					return err
				}
				return e.print(person, func() {
					if person.Disabled != nil {
						fmt.Fprintf(
							e.out,
							"%s is disabled and may not sign in; granted: %s\n",
							person.Name, grantWords(person.Granted()),
						)
						return
					}
					fmt.Fprintf(e.out, "%s may: %s\n", person.Name, grantWords(person.Granted()))
				})
			}
		},
	}
}

func tokensCommand() command {
	return command{
		verb: "tokens", does: "lists the tokens of machines and people, or your own, never their text",
		example: "vorrang tokens\nvorrang tokens -own\nvorrang tokens -own -revoke 7",
		setUp: func(e *env) func(context.Context, []string) error {
			own := e.flags.Bool("own", false, "those of your own programs")
			revoke := e.flags.Int64("revoke", 0, "with -own: end the one with this `number`")
			query := e.listByNumber("name, person, grants or maker")
			e.mode("revoke", nil, "own")
			return e.alone(func(ctx context.Context, c *client.Client) error {
				list := c.Tokens
				if *own {
					list = c.OwnTokens
				}
				if *revoke != 0 {
					if !*own {
						return usage("vorrang tokens -own -revoke N ends one of yours; vorrang token -revoke N any")
					}
					if err := c.RevokeOwn(ctx, *revoke); err != nil {
						return err
					}
					fmt.Fprintf(e.out, "token %d is revoked\n", *revoke)
					return nil
				}
				tokens, err := list(ctx, *query)
				if err != nil {
					return err
				}
				return e.print(tokens, func() {
					if len(tokens.Tokens) == 0 {
						if asksForSome(*query) {
							fmt.Fprintln(e.out, "there is no such token")
						} else {
							fmt.Fprintln(e.out, "no token was made yet; vorrang token NAME -grant ROLE makes one")
						}
						return
					}
					t := &table{heads: []string{"TOKEN", "NAME", "MAY", "GOOD UNTIL (UTC)", "USED"}}
					for _, token := range tokens.Tokens {
						may, used := grantWords(token.Grants), "never"
						if token.Owner != "" {
							may = "what " + token.Owner + " may"
						}
						if token.UsedAt != nil {
							used = ago(*token.UsedAt)
						}
						until := cell{moment(token.ExpiresAt), nil}
						if token.ExpiresAt.Before(time.Now()) {
							until = cell{"expired", e.paint.warn}
						}
						t.add(plain(strconv.FormatInt(token.ID, 10)), plain(token.Name), plain(may), until, plain(used))
					}
					t.print(e.out, e.paint)
					e.older(tokens.Next)
				})
			})
		},
	}
}

func tokenCommand() command {
	return command{
		verb: "token", takes: "NAME", does: "makes a token for a machine; it is shown once",
		explain: "Standard output gets the token alone, so that it can be put where the machine finds it. Unless " +
			"you use the\n" +
			"administrator's token, your own password is asked for, or read from the standard input.",
		example: "vorrang token nightly-backup -grant reporter@harbour/production -days 90 > /run/secrets/vorrang-token\n" +
			"vorrang token -revoke 3",
		setUp: func(e *env) func(context.Context, []string) error {
			grant := e.flags.String("grant", "", "`roles`, divided by commas")
			days := e.flags.Int("days", 90, "for how many `days` it is good")
			revoke := e.flags.Int64("revoke", 0, "end the token with this `number`")
			e.mode("revoke", nil)
			return func(ctx context.Context, args []string) error {
				c := e.client()
				if *revoke != 0 && len(args) == 0 {
					if err := c.Revoke(ctx, *revoke); err != nil {
						return err
					}
					fmt.Fprintf(e.out, "token %d is revoked\n", *revoke)
					return nil
				}
				if len(args) != 1 || *grant == "" || *revoke != 0 {
					return usage(
						"vorrang token NAME -grant ROLE@LANE/ENVIRONMENT makes one; vorrang token -revoke N ends one",
					)
				}
				made, err := c.MakeToken(ctx, args[0], list(*grant), time.Duration(*days)*24*time.Hour)
				if err != nil {
					return err
				}
				return e.print(made, func() {
					fmt.Fprintf(
						e.errs,
						"token %d of %s may: %s; good until %s UTC\n",
						made.ID, made.Name, grantWords(made.Grants), moment(made.ExpiresAt),
					)
					fmt.Fprintln(e.out, made.Text)
				})
			}
		},
	}
}

func auditCommand() command {
	return command{
		verb: "audit", does: "says who did what, when, from where, and with which result",
		explain: "-lines exports everything that matches, a line of JSON each, without a limit.",
		example: "vorrang audit -env production -since 2026-11-01\nvorrang audit -lines > audit.jsonl",
		setUp: func(e *env) func(context.Context, []string) error {
			var s client.AuditSearch
			e.flags.StringVar(&s.Lane, "lane", "", "of this `lane`; without it all")
			e.flags.StringVar(&s.Environment, "env", "", "of this `environment`")
			e.flags.StringVar(&s.Actor, "actor", "", "by this `person` or machine")
			e.flags.StringVar(&s.Operation, "operation", "", "this `operation` only, such as promote")
			e.flags.StringVar(&s.Text, "text", "", "with these `words` in what was asked for, or in the result")
			e.flags.IntVar(&s.Limit, "limit", 50, "the newest so `many`")
			since := e.flags.String("since", "", "not before this `time`")
			until := e.flags.String("until", "", "before this `time`")
			lines := e.flags.Bool("lines", false, "export all, a line of JSON each")
			e.flags.Int64Var(&s.Before, "before", 0, "only those before this `number`")
			e.mode("lines", nil, "actor", "operation", "text", "since", "until")
			return e.alone(func(ctx context.Context, c *client.Client) error {
				for _, limit := range []struct {
					flag, text string
					to         *time.Time
				}{{"since", *since, &s.Since}, {"until", *until, &s.Until}} {
					if limit.text == "" {
						continue
					}
					var err error
					if *limit.to, err = parseMoment(limit.flag, limit.text); err != nil {
						return err
					}
				}
				if *lines {
					return c.ExportAudit(ctx, s, e.out)
				}
				audit, err := c.Audit(ctx, s)
				if err != nil {
					return err
				}
				return e.print(audit, func() { printAudit(e, audit) })
			})
		},
	}
}

func printAudit(e *env, audit *api.Audit) {
	if len(audit.Acts) == 0 {
		fmt.Fprintln(e.out, "nothing matches")
		return
	}
	t := &table{heads: []string{"AT (UTC)", "WHO", "DID", "WHERE", "RESULT"}}
	for _, a := range audit.Acts {
		where := strings.Trim(a.Lane+"/"+a.Environment, "/")
		result := cell{a.Result, nil}
		switch {
		case a.Status == 0:
			result = cell{"not known: the service ended meanwhile", e.paint.warn}
		case a.Status >= 400:
			result = cell{firstPart(a.Result), e.paint.warn}
		}
		t.add(plain(moment(a.At)), plain(a.Actor), plain(a.Operation), plain(where), result)
	}
	t.print(e.out, e.paint)
	e.older(audit.Next)
}

// firstPart shortens a sentence for a table.
func firstPart(text string) string {
	const most = 80
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most]) + "…"
	}
	return text
}
