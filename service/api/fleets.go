package api

import (
	"time"

	"vorrang/core/deploy"
	"vorrang/core/lane"
	"vorrang/core/ledger"
	"vorrang/core/plan"
	"vorrang/core/step"
)

// FleetDeployment is one deployment to the targets of a fleet, in waves.
type FleetDeployment struct {
	ID          int64              `json:"id"`
	Lane        string             `json:"lane"`
	Environment string             `json:"environment"`
	Direction   ledger.Direction   `json:"direction"`
	Outcome     deploy.Outcome     `json:"outcome" description:"done, if every target has what was asked for, but for those that are set aside."`
	Message     string             `json:"message,omitempty" description:"How it ended."`
	Release     string             `json:"release,omitempty" description:"Absent for loose steps."`
	Actor       string             `json:"actor"`
	Waves       lane.Waves         `json:"waves"`
	Paused      string             `json:"paused,omitempty" description:"Who paused it."`
	Cancel      string             `json:"cancel,omitempty" description:"Who asked for its end."`
	Counts      map[plan.Stand]int `json:"counts" nullable:"false" description:"Targets by how they stand."`
	Targets     []FleetTarget      `json:"targets,omitempty" description:"In the order of the fleet; only where one deployment is asked for."`
	StartedAt   time.Time          `json:"started_at"`
	EndedAt     *time.Time         `json:"ended_at,omitempty"`
}

// FleetTarget is one target of a fleet in a deployment.
type FleetTarget struct {
	Target     string     `json:"target"`
	Wave       int        `json:"wave" description:"From 1; 0 for a target that the deployment does not change."`
	Stand      plan.Stand `json:"stand" enum:"waiting,running,done,held,away,failed,backed out,cancelled,interrupted"`
	Message    string     `json:"message,omitempty"`
	Deployment int64      `json:"deployment,omitempty"`
	BeganAt    *time.Time `json:"began_at,omitempty"`
	EndedAt    *time.Time `json:"ended_at,omitempty"`
}

// FleetDeployments is a list, newest first.
type FleetDeployments struct {
	Deployments []FleetDeployment `json:"deployments" nullable:"false"`
	Next        int64             `json:"next,omitempty" description:"Where there are more: what the next page is asked for by before."`
}

// FleetStatus is how the targets of a fleet stand.
type FleetStatus struct {
	Targets  int              `json:"targets" description:"How many there are."`
	Tolerate int              `json:"tolerate" description:"How many may be held, be away or fail."`
	Groups   []FleetGroup     `json:"groups" nullable:"false" description:"Targets that agree, the largest group first. Every other one is odd."`
	Aside    []SetAside       `json:"aside" nullable:"false" description:"Targets that deployments and gates pass over."`
	Gone     []string         `json:"gone,omitempty" description:"Targets with a history whose line is gone from the list."`
	Running  *FleetDeployment `json:"running,omitempty"`
	Last     *FleetDeployment `json:"last,omitempty" description:"The newest deployment to the fleet that has ended."`
}

// FleetGroup is targets that agree: at the same step, with the same steps pending and the same troubles.
type FleetGroup struct {
	At      step.Number `json:"at,omitempty"`
	AtSlug  string      `json:"at_slug,omitempty"`
	Applied int         `json:"applied"`
	Pending int         `json:"pending"`
	Reached bool        `json:"reached"`
	Trouble []Trouble   `json:"trouble" nullable:"false" description:"As for the first target of the group."`
	Gate    string      `json:"gate" description:"clear or held; empty where the target was not reached."`
	Targets []string    `json:"targets" nullable:"false"`
}

// SetAside is a target that deployments to its fleet, and gates, pass over.
type SetAside struct {
	Target string    `json:"target"`
	Reason string    `json:"reason"`
	By     string    `json:"by"`
	At     time.Time `json:"at"`
}

// FleetPlan is a plan that some targets of a fleet have in common.
type FleetPlan struct {
	Steps   int      `json:"steps" description:"How many it has; 0 where there is nothing to do."`
	Plan    string   `json:"plan" description:"Its digest."`
	Message string   `json:"message,omitempty" description:"Why there is none, as for targets that are away."`
	Targets []string `json:"targets" nullable:"false"`
}
