package access

import (
	"encoding/json"
	"slices"
	"time"
)

// Person is somebody who may sign in.
type Person struct {
	Name       string     `json:"name"`
	Password   string     `json:"-"` // argon2id; empty for those who sign in elsewhere
	Subject    string     `json:"subject,omitempty" description:"Issuer and subject of those who sign in by OpenID Connect."`
	Grants     Grants     `json:"grants" nullable:"false"`
	FromGroups Grants     `json:"from_groups,omitempty" description:"What their groups gave them at the last sign-in by OpenID Connect."`
	Disabled   *time.Time `json:"disabled_at,omitempty"`
	CreatedAt  time.Time  `json:"created_at"`
	CreatedBy  string     `json:"created_by"`
	SeenAt     *time.Time `json:"seen_at,omitempty" description:"The last sign-in."`
}

// Granted is what was granted to the person, here and by groups.
func (p Person) Granted() Grants { return slices.Concat(p.Grants, p.FromGroups) }

// All is what the person may do.
func (p Person) All() Grants {
	if p.Disabled != nil {
		return nil
	}
	return p.Granted()
}

// Token opens the service to a machine, or to a person's programs.
type Token struct {
	ID        int64      `json:"id"`
	Name      string     `json:"name"`
	Person    *Person    `json:"-"` // whose own it is; nil for a machine's
	Owner     string     `json:"person,omitempty" description:"Whose own it is; absent for a machine's."`
	Grants    Grants     `json:"grants" nullable:"false" description:"Of a machine's; a person's own may do what the person may."`
	MadeAt    time.Time  `json:"made_at"`
	MadeBy    string     `json:"made_by"`
	ExpiresAt time.Time  `json:"expires_at"`
	UsedAt    *time.Time `json:"used_at,omitempty"`
	RevokedAt *time.Time `json:"revoked_at,omitempty"`
}

// AuditEntry is one thing that somebody did, or tried to.
type AuditEntry struct {
	ID          int64           `json:"id"`
	At          time.Time       `json:"at"`
	Actor       string          `json:"actor"`
	Via         string          `json:"via" description:"How they proved who they are."`
	Address     string          `json:"address" description:"From where."`
	Operation   string          `json:"operation" description:"The API's name of it."`
	Lane        string          `json:"lane,omitempty"`
	Environment string          `json:"environment,omitempty"`
	Detail      json.RawMessage `json:"detail,omitempty" description:"What was asked for."`
	Status      int             `json:"status,omitempty" description:"Of HTTP; absent where the answer is not known."`
	Result      string          `json:"result,omitempty"`
}
