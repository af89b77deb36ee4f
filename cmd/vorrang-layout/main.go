// Vorrang-layout lays tables out for vorrangd, by Graphviz, which is in no other program: its
// library compiles what it runs when a program begins, in a second or from a folder for
// temporary files that others may write to. vorrangd starts it, and keeps it.
package main

import (
	"bytes"
	"context"
	"fmt"
	"os"

	"github.com/goccy/go-graphviz"

	"vorrang/internal/subprocess"
	"vorrang/service/chart"
)

func main() {
	subprocess.Serve(chart.Work, chart.Limits, func(text []byte) []byte {
		laid, err := plain(context.Background(), text)
		if err != nil {
			panic(err) // the same as ending of it
		}
		return laid
	})
	fmt.Fprintln(os.Stderr, "vorrang-layout: vorrangd starts it; there is nothing to be done with it by hand")
	os.Exit(2)
}

// plain lays a graph out, in Graphviz's plain format.
func plain(ctx context.Context, text []byte) ([]byte, error) {
	g, err := graphviz.New(ctx)
	if err != nil {
		return nil, err
	}
	graph, err := graphviz.ParseBytes(text)
	if err == nil {
		var out bytes.Buffer
		err = g.Render(ctx, graph, "plain", &out)
		_ = graph.Close() // it is not needed any more
		if closed := g.Close(); err == nil {
			err = closed
		}
		return out.Bytes(), err
	}
	_ = g.Close() // the text is at fault
	return nil, err
}
