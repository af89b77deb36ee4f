package main

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"vorrang/client"
	"vorrang/service/api"
)

func hooksCommand() command {
	return command{
		verb: "hooks", does: "lists the programs that are told of what happens, and what was sent to them",
		example: "vorrang hooks\nvorrang hooks -hook chat -search waiting",
		setUp: func(e *env) func(context.Context, []string) error {
			var query client.ListQuery
			e.flags.IntVar(&query.Limit, "limit", 20, "the newest so `many` deliveries")
			e.flags.StringVar(&query.Search, "search", "", "only deliveries in whose hook, event, state or last answer this `text` stands")
			hook := e.flags.String("hook", "", "only deliveries to this `hook`")
			e.flags.Int64Var(&query.Before, "before", 0, "only deliveries before this `number`")
			return e.alone(func(ctx context.Context, c *client.Client) error {
				hooks, err := c.Hooks(ctx, client.ListQuery{Limit: 1000})
				if err != nil {
					return err
				}
				deliveries, err := c.Deliveries(ctx, *hook, query)
				if err != nil {
					return err
				}
				return e.print(
					map[string]any{"hooks": hooks.Hooks, "deliveries": deliveries.Deliveries},
					func() { printHooks(e, hooks, deliveries, *hook != "" || asksForSome(query)) },
				)
			})
		},
	}
}

func printHooks(e *env, hooks *api.Hooks, deliveries *api.Deliveries, some bool) {
	if len(hooks.Hooks) == 0 {
		fmt.Fprintln(
			e.out,
			"no webhook is declared; vorrang hook NAME -url … -secret env:NAME -events held,failed begins",
		)
		return
	}
	t := &table{heads: []string{"HOOK", "URL", "SECRET", "LANE", "EVENTS"}}
	for _, h := range hooks.Hooks {
		lane := h.Lane
		if lane == "" {
			lane = "all"
		}
		t.add(plain(h.Name), plain(h.URL), plain(h.Secret), plain(lane), plain(strings.Join(h.Events, ", ")))
	}
	t.print(e.out, e.paint)
	fmt.Fprintln(e.out)
	if len(deliveries.Deliveries) == 0 {
		what := "nothing was sent yet"
		if some {
			what = "there is no such delivery"
		}
		fmt.Fprintln(e.out, what)
		return
	}
	t = &table{heads: []string{"AT (UTC)", "HOOK", "EVENT", "STATE", "TRIES", ""}}
	for _, d := range deliveries.Deliveries {
		state := cell{d.State, e.paint.good}
		message := d.Message
		if d.State != "delivered" {
			state.paint = e.paint.warn
		}
		if d.NextAt != nil && d.Tries > 0 {
			message += "; next try at " + moment(*d.NextAt)
		}
		t.add(plain(moment(d.MadeAt)), plain(d.Hook), plain(d.Type), state, plain(strconv.Itoa(d.Tries)), plain(message))
	}
	t.print(e.out, e.paint)
	e.older(deliveries.Next)
}

func hookCommand() command {
	return command{
		verb: "hook", takes: "NAME", does: "tells a program of what happens, as signed CloudEvents",
		explain: "The events are held, approved, started, failed and done. The secret that signs them is not kept: the " +
			"service reads\n" +
			"it where env:NAME or file:PATH says. An URL that is a secret itself is given the same way. " +
			"docs/pipelines.md says\n" +
			"how to check a signature.",
		example: "vorrang hook chat -url http://127.0.0.1:9000/vorrang -secret env:CHAT_SECRET -events held,failed -lane " +
			"harbour\nvorrang hook chat -remove",
		setUp: func(e *env) func(context.Context, []string) error {
			url := e.flags.String("url", "", "the `address`, or env:NAME or file:PATH")
			secret := e.flags.String("secret", "", "where the secret is: env:`NAME` or file:PATH")
			events := e.flags.String(
				"events",
				"held,approved,started,failed,done",
				"of which `events`, divided by commas",
			)
			lane := e.flags.String("lane", "", "only of this `lane`")
			remove := e.flags.Bool("remove", false, "remove the hook")
			e.mode("remove", nil)
			return func(ctx context.Context, args []string) error {
				if len(args) != 1 {
					return usage("name the hook: vorrang hook NAME -url … -secret env:NAME")
				}
				c := e.client()
				if *remove {
					if err := c.RemoveHook(ctx, args[0]); err != nil {
						return err
					}
					fmt.Fprintf(e.out, "hook %s is removed\n", args[0])
					return nil
				}
				if *url == "" || *secret == "" {
					return usage("-url and -secret are both needed")
				}
				hook, err := c.PutHook(
					ctx,
					api.Hook{Name: args[0], URL: *url, Secret: *secret, Events: list(*events), Lane: *lane},
				)
				if err != nil {
					return err
				}
				return e.print(
					hook,
					func() { fmt.Fprintf(e.out, "hook %s is told of: %s\n", hook.Name, strings.Join(hook.Events, ", ")) },
				)
			}
		},
	}
}
