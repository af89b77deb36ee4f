package step

// What a step changes beside schemas and rows, and may change only where the lane's
// declaration says so: with it a step reaches what its role may not, or the ledger.
const (
	Roles         = "roles"          // who may do what on the server
	EventTriggers = "event-triggers" // code that runs within other people's statements
	SessionUser   = "session-user"   // as whom the session goes on
	Settings      = "settings"       // of the server, or of what fires triggers
)

// Special are all of them.
var Special = []string{Roles, EventTriggers, SessionUser, Settings}
