package main

import (
	"context"
	"fmt"

	"vorrang/client"
	"vorrang/service/api"
)

func servicesCommand() command {
	return command{
		verb: "services", does: "lists the services that share the records of the one that is asked, and live",
		explain: "Each has a number, which its log lines and the application names of its sessions have. One that stopped or was " +
			"killed is not listed any more within seconds.",
		example: "vorrang services",
		setUp: func(e *env) func(context.Context, []string) error {
			return e.alone(func(ctx context.Context, c *client.Client) error {
				list, err := c.Services(ctx)
				if err != nil {
					return err
				}
				return e.print(list, func() { printServices(e, list) })
			})
		},
	}
}

func printServices(e *env, list *api.Services) {
	t := table{heads: []string{"SERVICE", "HOST", "PROCESS", "VERSION", "SINCE (UTC)", "RUNS", ""}}
	for _, one := range list.Services {
		note := ""
		if one.Answers {
			note = "answers this"
		}
		t.add(plain(fmt.Sprint(one.ID)), plain(one.Host), plain(fmt.Sprint(one.Process)), plain(one.Version),
			plain(moment(one.StartedAt)), plain(fmt.Sprint(one.Running)), plain(note))
	}
	t.print(e.out, e.paint)
}
