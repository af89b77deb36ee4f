package service

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"vorrang/core/gate"
	"vorrang/core/ledger"
	"vorrang/core/remedy"
	"vorrang/internal/plural"
	"vorrang/service/api"
)

// unknownDeployments is the kind of the trouble that the records are older than a ledger.
const unknownDeployments = "unknown-deployments"

// tellUnknown adds the newest deployments of the ledger that the records do not know, as after a restore
// of the records from an older copy.
func (s *views) tellUnknown(
	ctx context.Context, p targetContext, facts gate.Facts, status *api.EnvironmentStatus,
) error {
	const most = 10
	newest, _ := ledger.Numbers(facts.History, most)
	unknown, err := s.Records.UnknownDeployments(ctx, p.lane.Name, newest)
	if err != nil || len(unknown) == 0 {
		return err
	}
	slices.Sort(unknown)
	names := make([]string, len(unknown))
	for i, id := range unknown {
		names[i] = strconv.FormatInt(id, 10)
	}
	status.Trouble = append(status.Trouble, api.Trouble{
		Kind: unknownDeployments,
		Message: fmt.Sprintf(
			"the ledger tells of %s %s, which the service's records do not know: they are older than the ledger, as "+
				"after a restore from an older copy; new deployments have higher numbers, but steps, texts, releases and "+
				"approvals of that time are missing in the records",
			plural.Word(len(unknown), "deployment", "deployments"), strings.Join(names, ", "),
		),
		Remedies: []remedy.Remedy{
			p.at().Do(remedy.LookAtHistory).For("see what ran"),
			{
				Act: remedy.Submit, Arguments: remedy.Arguments{Lane: p.lane.Name},
				Reason: "send the steps again that are missing",
			},
		},
	})
	return nil
}
