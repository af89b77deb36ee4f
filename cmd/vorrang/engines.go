package main

import (
	"context"
	"fmt"

	"vorrang/client"
	"vorrang/service/api"
)

func enginesCommand() command {
	return command{
		verb: "engines", does: "lists the kinds of database servers that the service works on, and what each can do",
		example: "vorrang engines",
		setUp: func(e *env) func(context.Context, []string) error {
			return e.alone(func(ctx context.Context, c *client.Client) error {
				list, err := c.Engines(ctx)
				if err != nil {
					return err
				}
				return e.print(list, func() { printEngines(e, list) })
			})
		},
	}
}

func printEngines(e *env, list *api.Engines) {
	for _, one := range list.Engines {
		fmt.Fprintf(e.out, "%s  %s, tested with version %s\n", e.paint.strong(one.Name), one.Server, one.Versions())
		t := table{}
		for _, power := range []struct {
			has  bool
			what string
		}{
			{one.DDLTransaction, "changes of the schema can be rolled back"},
			{one.Roles, "steps can run as another role"},
			{one.Schemas, "databases have schemas"},
			{one.LedgerOwner, "the ledger can have an owner of its own"},
			{one.Yields, "steps can give way to who waits for them"},
			{one.Measures, "what a step locks and writes again can be measured"},
			{one.Scratch, "databases for trials can be made"},
			{one.Samples, "rows can be copied to rehearse with"},
			{one.Clones, "a clone can be copied as a whole to rehearse on"},
			{one.Drafts, "steps can be drafted from its schemas"},
			{one.Scripts, "files can be written that run without Vorrang"},
		} {
			t.add(plain("  "+map[bool]string{true: "yes", false: "no"}[power.has]), plain(power.what))
		}
		t.printRows(e.out)
	}
}
