package api

import "time"

// What webhooks tell of, as the types of CloudEvents.
const (
	EventHeld     = "vorrang.promotion.held"
	EventApproved = "vorrang.release.approved"
	EventStarted  = "vorrang.deployment.started"
	EventFailed   = "vorrang.deployment.failed"
	EventDone     = "vorrang.deployment.done"
	EventDrifted  = "vorrang.environment.drifted"
)

// HookEvents are the short names of what webhooks tell of: the ends of the types.
var HookEvents = []string{"held", "approved", "started", "failed", "done", "drifted"}

// HookEvent is the data of a webhook's event.
type HookEvent struct {
	Type        string `json:"-"`
	Lane        string `json:"lane"`
	Environment string `json:"environment"`
	Release     string `json:"release,omitempty"`
	Deployment  int64  `json:"deployment,omitempty"`
	Direction   string `json:"direction,omitempty"`
	Actor       string `json:"actor"`
	Message     string `json:"message,omitempty"`
}

// CloudEvent is an event in the JSON format of CloudEvents 1.0.
type CloudEvent struct {
	SpecVersion string    `json:"specversion"`
	ID          string    `json:"id"`
	Source      string    `json:"source"`
	Type        string    `json:"type"`
	Subject     string    `json:"subject"`
	Time        time.Time `json:"time"`
	ContentType string    `json:"datacontenttype"`
	Data        HookEvent `json:"data"`
}

// Hook is a program that is told of what happens.
type Hook struct {
	Name   string    `json:"name"`
	URL    string    `json:"url" description:"Or a reference to it: env:NAME or file:PATH."`
	Secret string    `json:"secret" description:"Where the service finds it: env:NAME or file:PATH."`
	Events []string  `json:"events" nullable:"false" description:"held, approved, started, failed, done, drifted."`
	Lane   string    `json:"lane,omitempty" description:"Only of this lane; of all if absent."`
	MadeBy string    `json:"made_by"`
	MadeAt time.Time `json:"made_at"`
}

// Hooks is every hook.
type Hooks struct {
	Hooks []Hook `json:"hooks" nullable:"false"`
	Next  string `json:"next,omitempty" description:"Where there are more: what the next page is asked for by after."`
}

// Delivery is one event on its way to a hook.
type Delivery struct {
	ID      int64      `json:"id"`
	Hook    string     `json:"hook"`
	Type    string     `json:"type"`
	Event   string     `json:"event" description:"The id of the event; the same for every try."`
	MadeAt  time.Time  `json:"made_at"`
	State   string     `json:"state" enum:"waiting,delivered,given up"`
	Tries   int        `json:"tries"`
	NextAt  *time.Time `json:"next_at,omitempty" description:"Of the next try."`
	Status  int        `json:"status,omitempty" description:"Of HTTP, of the last try."`
	Message string     `json:"message,omitempty" description:"What was wrong with the last try."`
	EndedAt *time.Time `json:"ended_at,omitempty"`
}

// Deliveries is a list, newest first.
type Deliveries struct {
	Deliveries []Delivery `json:"deliveries" nullable:"false"`
	Next       int64      `json:"next,omitempty" description:"Where there are more: what the next page is asked for by before."`
}
